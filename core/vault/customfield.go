package vault

import (
	"cmp"
	"encoding/json"
	"slices"
	"strings"

	"redlocket/core/secret"
)

// Fields of the user's own and attached files are registers too, one each, so
// that two devices can add some at the same time and keep them all.
const (
	ownPrefix  = "own:"
	filePrefix = "file:"
)

// CustomField is a field that the user added: a label and a value of one of the forms
// FormText, FormHidden, FormDate, FormYesNo and FormAddress.
type CustomField struct {
	ID    string // of the register, unique in the entry
	Label string
	Form  Form
	Order int // on the sheet
	Value secret.Text
}

type customFieldJSON struct {
	Label string `json:"n"`
	Form  Form   `json:"k"`
	Order int    `json:"o,omitempty"`
	Value string `json:"v"`
}

// Register returns the register that holds the field, and its value for [Changes].
func (o CustomField) Register() (Field, any) {
	return Field(ownPrefix + o.ID), customFieldJSON{o.Label, o.Form, o.Order, o.Value.Reveal()}
}

// CustomFieldKey names the register of the custom field with the given id. Setting it to
// nil removes the field.
func CustomFieldKey(id string) Field { return Field(ownPrefix + id) }

// IsCustomField reports whether a register holds a custom field.
func IsCustomField(f Field) bool { return strings.HasPrefix(string(f), ownPrefix) }

// maxCustomID is the longest id of a custom field that comes from somebody else.
const maxCustomID = 64

// IsCustomFieldValue reports whether a value from somebody else is one of a custom field.
func IsCustomFieldValue(f Field, value []byte) bool {
	id, ok := strings.CutPrefix(string(f), ownPrefix)
	var w customFieldJSON
	return ok && id != "" && len(id) <= maxCustomID && json.Unmarshal(value, &w) == nil && w.Label != "" &&
		slices.Contains([]Form{FormText, FormHidden, FormDate, FormYesNo, FormAddress}, w.Form)
}

// CustomFields returns the entry's custom fields in their order.
func (e Entry) CustomFields() []CustomField {
	var out []CustomField
	for f := range e.Fields {
		id, ok := strings.CutPrefix(string(f), ownPrefix)
		if !ok {
			continue
		}
		var w customFieldJSON
		if e.read(f, &w); w.Label != "" {
			out = append(out, CustomField{id, w.Label, w.Form, w.Order, secret.New(w.Value)})
		}
	}
	slices.SortFunc(
		out,
		func(a, b CustomField) int { return cmp.Or(cmp.Compare(a.Order, b.Order), strings.Compare(a.ID, b.ID)) },
	)
	return out
}

// File is a file attached to an entry. Its bytes are sealed apart (package keys);
// the entry says how to read them.
type File struct {
	ID     string `json:"-"`
	Name   string `json:"n"`
	Type   string `json:"t"` // media type, told from the bytes
	Size   int64  `json:"s"` // bytes in clear
	Chunks int    `json:"c"`
	Sum    string `json:"h"` // SHA-256 of the bytes in clear, hex
}

// The limits on files: a scan of a passport is about 3 MB.
const (
	MaxFile      = 10 << 20 // bytes of one file
	MaxFiles     = 20       // of one item
	MaxFilesSize = 1 << 30  // bytes of all files of a vault
)

// FileField names the register of an attached file. Setting it to nil detaches it.
func FileField(id string) Field { return Field(filePrefix + id) }

// Files returns what is attached, by name.
func (e Entry) Files() []File {
	var out []File
	for f := range e.Fields {
		if file, ok := e.file(f); ok {
			out = append(out, file)
		}
	}
	slices.SortFunc(out, func(a, b File) int {
		return cmp.Or(strings.Compare(strings.ToLower(a.Name), strings.ToLower(b.Name)), strings.Compare(a.ID, b.ID))
	})
	return out
}

// AllFileIDs returns the ids of the files that the entry or its past names: their
// bytes are kept for as long as the entry is.
func (e Entry) AllFileIDs() []string {
	var out []string
	add := func(f Field) {
		if id, ok := strings.CutPrefix(string(f), filePrefix); ok && !slices.Contains(out, id) {
			out = append(out, id)
		}
	}
	for f := range e.Fields {
		add(f)
	}
	for _, p := range e.Past {
		add(p.Field)
	}
	return out
}

// FileOf reads a file out of a register, present or past.
func FileOf(f Field, value secret.Text) (File, bool) {
	return Entry{Fields: map[Field]Register{f: {Value: value}}}.file(f)
}

func (e Entry) file(f Field) (File, bool) {
	id, ok := strings.CutPrefix(string(f), filePrefix)
	if !ok {
		return File{}, false
	}
	out := File{}
	e.read(f, &out)
	out.ID = id
	return out, out.Name != ""
}

// SourceFiles returns the names of the files that the entry was imported from.
func (e Entry) SourceFiles() (names []string) {
	e.read(FieldFrom, &names)
	return names
}
