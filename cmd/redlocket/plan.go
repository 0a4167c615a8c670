package main

import (
	"encoding/json"
	"io"

	"redlocket/core/transfer"
	"redlocket/wording"
)

// A plan as JSON: what each row of each file is taken for, so that it can be checked from outside. It has no password.
type planJSON struct {
	Files []planFile `json:"files"`
	Rows  []planRow  `json:"rows"`
}

type planFile struct {
	Name      string       `json:"name"`
	Kind      string       `json:"kind"` // table, items or exchange
	Encoding  string       `json:"encoding,omitempty"`
	Delimiter string       `json:"delimiter,omitempty"`
	Header    int          `json:"header,omitempty"` // its line
	Columns   []planColumn `json:"columns,omitempty"`
	Rows      int          `json:"rows"` // taken, broken and skipped together
	Taken     int          `json:"taken"`
	Broken    int          `json:"broken"`
	Skipped   int          `json:"skipped"`
}

type planColumn struct {
	Name    string `json:"name"`
	Meaning string `json:"meaning"`
	By      string `json:"by,omitempty"` // name, content or chosen
	Unsure  bool   `json:"unsure,omitempty"`
}

type planRow struct {
	File     int      `json:"file"`
	Line     int      `json:"line"`
	End      int      `json:"end,omitempty"`
	Fate     string   `json:"fate"`               // new, twin, known, more, differ, broken or skipped
	Decision string   `json:"decision,omitempty"` // add, skip, newer, both
	Login    int      `json:"login,omitempty"`    // rows with the same number become one; from 1
	Title    string   `json:"title,omitempty"`
	Site     string   `json:"site,omitempty"`
	Username string   `json:"username,omitempty"`
	Why      string   `json:"why,omitempty"`
	Remarks  []string `json:"remarks,omitempty"`
}

// writePlan writes a plan as JSON.
func writePlan(out io.Writer, p *transfer.Plan) error {
	j := planJSON{Files: []planFile{}, Rows: []planRow{}}
	for i, s := range p.Sources {
		n := p.Sum(i)
		f := planFile{
			Name: s.Name, Kind: s.Kind, Rows: n.Rows, Taken: n.Taken, Broken: n.Broken, Skipped: n.Skipped,
		}
		if s.Table != nil {
			f.Encoding, f.Delimiter, f.Header = s.Table.Encoding, string(s.Table.Delimiter), s.Table.HeaderAt
		}
		for _, c := range s.Column {
			f.Columns = append(f.Columns, planColumn{c.Name, string(c.Meaning), c.How, c.Unsure})
		}
		j.Files = append(j.Files, f)
	}
	for _, t := range p.Told() {
		r := planRow{File: t.Source, Line: t.Line, End: t.End, Fate: string(t.Fate), Title: t.Title}
		switch {
		case t.Fate == transfer.FateBroken:
			r.Why = wording.Row(t.Why)
		case t.Fate == transfer.FateSkipped:
			r.Why = wording.Skip(t.Skip)
		default:
			s := p.Steps[t.Step]
			r.Decision, r.Login = string(s.Decision), t.Step+1
			r.Title, r.Site, r.Username = s.Title, s.Site, s.Username
			r.Why = wording.Group(s.Group)
		}
		for _, m := range t.Remarks {
			r.Remarks = append(r.Remarks, wording.Remark(m))
		}
		j.Rows = append(j.Rows, r)
	}
	e := json.NewEncoder(out)
	e.SetIndent("", " ")
	e.SetEscapeHTML(false)
	return e.Encode(j)
}
