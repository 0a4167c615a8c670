package transfer

import (
	"cmp"
	"slices"
)

// Fate is what becomes of a row.
type Fate string

// The fates of rows that belong to no step; one that does has the fate of its group, and is left out or not as its
// step's decision says.
const (
	FateBroken  Fate = "broken"
	FateSkipped Fate = "skipped"
)

// Told is what a plan says of one row of a file.
type Told struct {
	Source    int
	Line, End int // in a file of items its number, and 0
	Fate      Fate
	Step      int      // of the plan; -1 for none
	Why       RowError // of a broken one
	Title     string   // of a broken item
	Skip      Skip     // of a skipped one
	Remarks   []Remark
}

// Told says of every row of the plan's files what becomes of it, in the files' order. Rows with two sign-ins come
// twice.
func (p *Plan) Told() (out []Told) {
	for i, s := range p.Steps {
		for _, r := range s.Rows {
			out = append(out, Told{
				Source: r.Source, Line: r.Line, End: r.End, Fate: Fate(s.Group), Step: i, Remarks: r.Remarks,
			})
		}
	}
	for _, b := range p.Broken {
		out = append(out, Told{
			Source: b.Source, Line: b.Line, End: b.End, Fate: FateBroken, Step: -1, Why: b.Why, Title: b.Title,
		})
	}
	for i, s := range p.Sources {
		if s.Table == nil {
			continue
		}
		for _, k := range s.Table.Skipped {
			out = append(out, Told{Source: i, Line: k.Line, End: k.End, Fate: FateSkipped, Step: -1, Skip: k.Why})
		}
	}
	slices.SortStableFunc(out, func(a, b Told) int {
		return cmp.Or(cmp.Compare(a.Source, b.Source), cmp.Compare(a.Line, b.Line))
	})
	return out
}

// Sum is how many rows a file has, and what became of them: Rows is Taken, Broken and Skipped together.
type Sum struct{ Rows, Taken, Broken, Skipped int }

// Sum adds up the rows of a file, by its place.
func (p *Plan) Sum(source int) (s Sum) {
	src := p.Sources[source]
	s.Taken, s.Broken = len(src.Rows), len(src.Broken)
	if src.Table != nil {
		s.Skipped = len(src.Table.Skipped)
	}
	s.Rows = s.Taken + s.Broken + s.Skipped
	return s
}
