package autofill

import "strings"

// The limits of a snapshot. A page over them is read as far as they go.
const (
	MaxFields  = 500
	MaxText    = 200 // bytes of any text that a page gives
	MaxOptions = 300 // of one drop-down
)

// Snapshot describes one frame of a page.
type Snapshot struct {
	Title    string  `json:"title"`
	Lang     string  `json:"lang"`
	Path     string  `json:"path"`     // of the frame's address
	Heads    string  `json:"heads"`    // the first headings of the page
	Alerts   string  `json:"alerts"`   // what the page announces: roles alert and status, live regions
	Status   int     `json:"status"`   // of HTTP; 0 if it isn't known
	Doc      string  `json:"doc"`      // tells this document from the next one at its address
	Restless bool    `json:"restless"` // it isn't complete yet, or changes still: what it lacks tells nothing
	SignedIn bool    `json:"signedIn"` // it has a way to sign out
	Known    bool    `json:"-"`        // the vault has logins for the site: set by whoever knows
	Forms    []Form  `json:"forms"`
	Fields   []Field `json:"fields"`
}

// Form is a form element, or what the extension takes for one where there is none.
type Form struct {
	ID     int    `json:"id"`
	Head   string `json:"head"`   // its headings and legends, or the heading right before it
	Submit string `json:"submit"` // the words of the buttons that send it
	Text   string `json:"text"`   // its other buttons, links and check boxes
	Name   string `json:"name"`   // its id, name, class and the path of its action
	Action string `json:"action"` // the origin that it sends to; empty for the frame's own

	// Targets are all other origins that the form, or one of the buttons that send it, names.
	Targets []string `json:"targets"`
}

// Field is an input of a frame.
type Field struct {
	ID           int      `json:"id"`
	Form         int      `json:"form"`
	Type         string   `json:"type"` // of an input; "select" or "textarea" for those
	Name         string   `json:"name"` // its name and id
	Autocomplete string   `json:"autocomplete"`
	Label        string   `json:"label"`   // label, aria-label, placeholder, title
	Near         string   `json:"near"`    // legend, description and hint beside it
	Section      string   `json:"section"` // the heading over it, within its form
	Visible      bool     `json:"visible"`
	Locked       bool     `json:"locked"` // disabled or read-only
	Filled       bool     `json:"filled"` // has a value already
	Given        bool     `json:"given"`  // the page put its value there, and nobody touched it
	MaxLength    int      `json:"maxlength"`
	MinLength    int      `json:"minlength"`
	Pattern      string   `json:"pattern"`
	Rules        string   `json:"rules"` // the passwordrules attribute
	Options      []Option `json:"options"`
}

// Option is one choice of a drop-down.
type Option struct {
	Value string `json:"value"`
	Text  string `json:"text"`
}

// Bound cuts the snapshot to the limits.
func (s Snapshot) Bound() Snapshot {
	for _, t := range []*string{&s.Title, &s.Lang, &s.Path, &s.Heads, &s.Alerts, &s.Doc} {
		*t = cut(*t)
	}
	s.Forms = append([]Form{}, s.Forms[:min(len(s.Forms), MaxFields)]...)
	for i := range s.Forms {
		f := &s.Forms[i]
		for _, t := range []*string{&f.Head, &f.Submit, &f.Text, &f.Name, &f.Action} {
			*t = cut(*t)
		}
	}
	s.Fields = append([]Field{}, s.Fields[:min(len(s.Fields), MaxFields)]...)
	for i := range s.Fields {
		f := &s.Fields[i]
		for _, t := range []*string{
			&f.Type, &f.Name, &f.Autocomplete, &f.Label, &f.Near, &f.Section, &f.Pattern, &f.Rules,
		} {
			*t = cut(*t)
		}
		f.Options = append([]Option(nil), f.Options[:min(len(f.Options), MaxOptions)]...)
		for j := range f.Options {
			f.Options[j] = Option{cut(f.Options[j].Value), cut(f.Options[j].Text)}
		}
	}
	return s
}

func cut(s string) string {
	if len(s) > MaxText {
		s = s[:MaxText]
	}
	return strings.ToValidUTF8(s, "")
}
