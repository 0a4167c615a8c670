package autofill

import "strings"

// The limits of a snapshot. A page over them is read as far as they go.
const (
	MaxFields = 500
	MaxText   = 200 // bytes of any text that a page gives
)

// Snapshot describes one frame of a page.
type Snapshot struct {
	Title  string  `json:"title"`
	Lang   string  `json:"lang"`
	Forms  []Form  `json:"forms"`
	Fields []Field `json:"fields"`
}

// Form is a form element, or what the extension takes for one where there is none.
type Form struct {
	ID   int    `json:"id"`
	Text string `json:"text"` // its headings and the labels of its buttons
	Name string `json:"name"` // its id, name, class and the path of its action
}

// Field is an input of a frame.
type Field struct {
	ID           int    `json:"id"`
	Form         int    `json:"form"`
	Type         string `json:"type"` // of an input; "select" or "textarea" for those
	Name         string `json:"name"` // its name and id
	Autocomplete string `json:"autocomplete"`
	Label        string `json:"label"` // label, aria-label, placeholder, title
	Visible      bool   `json:"visible"`
	Locked       bool   `json:"locked"` // disabled or read-only
	Filled       bool   `json:"filled"` // has a value already
	MaxLength    int    `json:"maxlength"`
}

// Bound cuts the snapshot to the limits.
func (s Snapshot) Bound() Snapshot {
	s.Title, s.Lang = cut(s.Title), cut(s.Lang)
	s.Forms = append([]Form{}, s.Forms[:min(len(s.Forms), MaxFields)]...)
	for i := range s.Forms {
		f := &s.Forms[i]
		f.Text, f.Name = cut(f.Text), cut(f.Name)
	}
	s.Fields = append([]Field{}, s.Fields[:min(len(s.Fields), MaxFields)]...)
	for i := range s.Fields {
		f := &s.Fields[i]
		f.Type, f.Name, f.Autocomplete, f.Label = cut(f.Type), cut(f.Name), cut(f.Autocomplete), cut(f.Label)
	}
	return s
}

func cut(s string) string {
	if len(s) > MaxText {
		s = s[:MaxText]
	}
	return strings.ToValidUTF8(s, "")
}
