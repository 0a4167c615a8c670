package records

import (
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"slices"
	"strings"
	"unicode/utf8"

	"redlocket/core/otp"
	"redlocket/core/secret"
	"redlocket/core/site"
	"redlocket/core/vault"
)

// Form is what a person typed into an item's form, with what the form has to know of the
// item as it was when it was opened.
//
// Two devices may edit one item at once. So a form writes only what the user changed: what is
// as it was is left out ([Form.Opened]), and a hidden value whose place stayed empty stays
// ([Form.Cleared], [Form.KeepHidden]).
type Form struct {
	Kind         vault.Type
	Title        string
	Values       map[vault.Field]string // of the kind's custom fields
	Addresses    []vault.Address
	Aliases      string // one name a line, or separated by commas
	Folder       string
	Tags         string
	Notes        string
	Book         string // of a new one: AllBooks or OwnBook for the owner's own, or one by its id
	CustomFields []vault.CustomField

	New        bool
	Opened     map[string]string    // by field: the digest of its value when the form was opened
	Cleared    map[vault.Field]bool // hidden fields that are to go
	KeepHidden map[string]bool      // by id: hidden custom fields whose value stays
}

// The limits on what a form takes, in characters.
const (
	maxTitle        = 200
	maxNotes        = 20000
	maxCustomFields = 50
)

// FormErrors say what is wrong with a form, by the name of its field.
type FormErrors map[string]error

func (FormErrors) Error() string { return "something typed can’t be kept as it is" }

// What a form may be refused for, beside what packages vault, site and otp say.
var (
	ErrKind         = errors.New("there is no such kind of item")
	ErrNoTitle      = errors.New("it needs a title, so that you can find it again")
	ErrLongTitle    = errors.New("a title has 200 characters at most")
	ErrLongFolder   = errors.New("the folder’s name is too long")
	ErrLongNotes    = errors.New("notes have 20,000 characters at most; longer ones can be attached as a file")
	ErrCustomFields = errors.New("an item has 50 fields of your own at most")
)

// SaveForm checks a form and writes what the user changed. The error is [FormErrors] where
// something typed can't be kept; nothing is written then.
func (s *Items) SaveForm(ctx context.Context, id string, f *Form) error {
	c, err := s.Check(f)
	if err != nil {
		return err
	}
	if kind, ok := vault.KindOf(f.Kind); ok {
		for _, spec := range kind.Specs {
			if spec.Hidden() && f.Values[spec.Field] == "" && !f.Cleared[spec.Field] {
				delete(c, spec.Field)
			}
		}
	}
	if f.New {
		to, err := (&Acts{s.core}).register(f.Book)
		if err != nil {
			return FormErrors{"book": err}
		}
		if to != "" {
			c[vault.FieldBook] = to
		}
	} else {
		if err := s.keepHidden(id, f, c); err != nil {
			return err
		}
		s.dropUnchanged(f, c)
	}
	return s.SaveAs(ctx, id, f.Kind, c)
}

// keepHidden gives custom fields whose hidden value stays that value, under their new label.
func (s *Items) keepHidden(id string, f *Form, c vault.Changes) error {
	e, err := s.Entry(id)
	if err != nil {
		return err
	}
	old := e.CustomFields()
	for _, o := range f.CustomFields {
		i := slices.IndexFunc(old, func(was vault.CustomField) bool { return was.ID == o.ID })
		if i >= 0 && f.KeepHidden[o.ID] {
			was := old[i]
			was.Label, was.Order = o.Label, o.Order
			field, value := was.Register()
			c[field] = value
		}
	}
	return nil
}

// dropUnchanged takes out what is as it was when the form was opened: another device may have
// changed it since.
func (s *Items) dropUnchanged(f *Form, c vault.Changes) {
	for field, value := range c {
		was, had := f.Opened[string(field)]
		if had && was == s.digest(field, value) || !had && blank(value) {
			delete(c, field)
		}
	}
}

// Digests names the values of an entry without telling them, by field, for [Form.Opened]. They
// are right for this opening of the set only.
func (s *Items) Digests(e vault.Entry) map[string]string {
	out := make(map[string]string, len(e.Fields))
	for field, r := range e.Fields {
		out[string(field)] = s.digest(field, json.RawMessage(r.Value.Reveal()))
	}
	return out
}

func (s *Items) digest(f vault.Field, value any) string {
	if t, ok := value.(secret.Text); ok {
		value = t.Reveal()
	}
	b, err := json.Marshal(value)
	if err != nil {
		return ""
	}
	m := hmac.New(sha256.New, s.core.digestKey)
	m.Write([]byte(f))
	m.Write(b)
	return hex.EncodeToString(m.Sum(nil)[:12])
}

// blank reports whether a value says nothing: where nothing was before, it says that nothing
// was typed.
func blank(value any) bool {
	switch v := value.(type) {
	case nil:
		return true
	case string:
		return v == ""
	case secret.Text:
		return v.IsEmpty()
	case []string:
		return len(v) == 0
	case []vault.Address:
		return len(v) == 0
	}
	return false
}

// Check turns what was typed into the changes that make an item so. The error is
// [FormErrors]; f then holds what was typed, cleaned where it could be.
func (s *Items) Check(f *Form) (vault.Changes, error) {
	kind, ok := vault.KindOf(f.Kind)
	if !ok {
		return nil, FormErrors{"kind": ErrKind}
	}
	bad := FormErrors{}
	c := vault.Changes{}
	for _, spec := range kind.Specs {
		value, err := vault.Check(spec, f.Values[spec.Field])
		if err == nil {
			value, err = checkFurther(spec.Form, value)
		}
		if err != nil {
			bad[string(spec.Field)] = err
			continue
		}
		f.Values[spec.Field] = value
		c[spec.Field] = secret.New(value)
	}
	if kind.HasAddresses() {
		f.Addresses = cleanAddresses(f.Addresses, bad)
		c[vault.FieldAddresses] = f.Addresses
	}
	f.checkCustomFields(c, bad)
	f.Title, f.Folder = strings.TrimSpace(f.Title), vault.CleanFolder(f.Folder)
	if f.Title == "" && len(bad) == 0 {
		f.Title = s.titleFor(kind, f)
	}
	f.checkLengths(bad)
	c[vault.FieldTitle], c[vault.FieldFolder], c[vault.FieldNotes] = f.Title, f.Folder, f.Notes
	c[vault.FieldTags] = vault.CleanTags(f.Tags)
	c[vault.FieldAliases] = vault.CleanTags(strings.ReplaceAll(f.Aliases, "\n", ","))
	if len(bad) > 0 {
		return nil, bad
	}
	return c, nil
}

func (f *Form) checkLengths(bad FormErrors) {
	switch {
	case f.Title == "":
		bad["title"] = ErrNoTitle
	case utf8.RuneCountInString(f.Title) > maxTitle:
		bad["title"] = ErrLongTitle
	case len(f.Folder) > maxFolder:
		bad["folder"] = ErrLongFolder
	case utf8.RuneCountInString(f.Notes) > maxNotes:
		bad["notes"] = ErrLongNotes
	}
}

// checkFurther checks the forms that package vault leaves to others.
func checkFurther(form vault.Form, value string) (string, error) {
	if value == "" {
		return "", nil
	}
	switch form {
	case vault.FormAddress:
		return site.Clean(value)
	case vault.FormSetup:
		s, err := otp.Parse(secret.New(value))
		if err != nil {
			return value, err
		}
		return s.String().Reveal(), nil
	}
	return value, nil
}

func cleanAddresses(list []vault.Address, bad FormErrors) []vault.Address {
	out := []vault.Address{}
	for _, a := range list {
		if strings.TrimSpace(a.URL) == "" {
			continue
		}
		clean, err := site.Clean(a.URL)
		if err != nil {
			bad["address"] = err
		} else {
			a.URL = clean
		}
		if !slices.Contains(out, a) {
			out = append(out, a)
		}
	}
	return out
}

func (f *Form) checkCustomFields(c vault.Changes, bad FormErrors) {
	if len(f.CustomFields) > maxCustomFields {
		bad["custom"] = ErrCustomFields
		return
	}
	for i, o := range f.CustomFields {
		if f.KeepHidden[o.ID] {
			continue
		}
		if o.Label == "" && o.Value.IsEmpty() {
			c[vault.CustomFieldKey(o.ID)] = nil
			continue
		}
		o, err := vault.CheckCustomField(o)
		if err == nil && o.Form == vault.FormAddress {
			var clean string
			clean, err = checkFurther(o.Form, o.Value.Reveal())
			o.Value = secret.New(clean)
		}
		if err != nil {
			bad["custom"] = err
			continue
		}
		f.CustomFields[i] = o
		field, value := o.Register()
		c[field] = value
	}
}

// titleFor makes a title where none was typed: the site's, or what the item is of.
func (s *Items) titleFor(k vault.Kind, f *Form) string {
	if len(f.Addresses) > 0 {
		if known, ok := (&Sites{s.core}).Directory().Lookup(site.Domain(f.Addresses[0].URL)); ok {
			return known.Name
		}
		return site.Title(f.Addresses[0].URL)
	}
	value := func(field vault.Field) string { return f.Values[field] }
	switch k.Type {
	case vault.TypeApp:
		return value(vault.FieldApp)
	case vault.TypeCard:
		return strings.TrimSpace(value(vault.FieldIssuer) + " " + vault.Brand(value(vault.FieldNumber)))
	case vault.TypeBank:
		return value(vault.FieldBank)
	case vault.TypePerson:
		return strings.TrimSpace(value("given-name") + " " + value("family-name"))
	case vault.TypePaper:
		return k.ChoiceName(vault.FieldPaper, value(vault.FieldPaper))
	case vault.TypeMembership:
		return value(vault.FieldIssuer)
	case vault.TypeWiFi:
		return value(vault.FieldSSID)
	case vault.TypeNote:
		first, _, _ := strings.Cut(strings.TrimSpace(f.Notes), "\n")
		r := []rune(first)
		return string(r[:min(len(r), 60)])
	}
	return ""
}
