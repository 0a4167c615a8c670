package app

import (
	"context"
	"errors"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"redlocket/core/find"
	"redlocket/core/otp"
	"redlocket/core/secret"
	"redlocket/core/site"
	"redlocket/core/vault"
)

// ItemForm is what a person typed into an item's form.
type ItemForm struct {
	Kind         vault.Type
	Title        string
	Values       map[vault.Field]string // of the kind's own fields
	Addresses    []vault.Address
	Aliases      string // one name a line, or parted by commas
	Folder       string
	Tags         string
	Notes        string
	CustomFields []vault.CustomField
}

// The limits on what a form takes, in characters.
const (
	maxTitle = 200
	maxNotes = 20000
	maxOwns  = 50
)

// FormErrors says what is wrong with a form, by the name of its field.
type FormErrors map[string]string

func (b FormErrors) Error() string {
	return "please look again: something typed can’t be kept as it is"
}

// Changes checks what was typed and turns it into the changes that make an item
// so. The error is a [FormErrors]; t then holds what was typed, cleaned where it could be.
func (v *Vault) Changes(t *ItemForm) (vault.Changes, error) {
	bad := FormErrors{}
	kind, ok := vault.KindOf(t.Kind)
	if !ok {
		return nil, FormErrors{"kind": "There is no such kind of item."}
	}
	c := vault.Changes{}
	for _, s := range kind.Specs {
		value, err := vault.Check(s, t.Values[s.Field])
		if err == nil {
			value, err = checkFurther(s.Form, value)
		}
		if err != nil {
			bad[string(s.Field)] = sentence(err)
			continue
		}
		t.Values[s.Field] = value
		c[s.Field] = secret.New(value)
	}
	if kind.HasAddresses() {
		t.Addresses = cleanAddresses(t.Addresses, bad)
		c[vault.FieldAddresses] = t.Addresses
	}
	t.checkOwns(c, bad)
	t.Title, t.Folder = strings.TrimSpace(t.Title), vault.CleanFolder(t.Folder)
	if t.Title == "" && len(bad) == 0 {
		t.Title = v.title(kind, t)
	}
	switch {
	case t.Title == "":
		bad["title"] = "It needs a title, so that you can find it again."
	case utf8.RuneCountInString(t.Title) > maxTitle:
		bad["title"] = "A title has 200 characters at most."
	case len(t.Folder) > maxFolder:
		bad["folder"] = "The folder’s name is too long."
	case utf8.RuneCountInString(t.Notes) > maxNotes:
		bad["notes"] = "Notes have 20,000 characters at most. Longer ones can be attached as a file."
	}
	also := vault.CleanTags(strings.ReplaceAll(t.Aliases, "\n", ","))
	c[vault.FieldTitle], c[vault.FieldFolder], c[vault.FieldNotes] = t.Title, t.Folder, t.Notes
	c[vault.FieldTags], c[vault.FieldAliases] = vault.CleanTags(t.Tags), also
	if len(bad) > 0 {
		return nil, bad
	}
	return c, nil
}

func sentence(err error) string {
	r := []rune(err.Error())
	return strings.ToUpper(string(r[:1])) + string(r[1:]) + "."
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
			bad["address"] = sentence(err)
		} else {
			a.URL = clean
		}
		if !slices.Contains(out, a) {
			out = append(out, a)
		}
	}
	return out
}

func (t *ItemForm) checkOwns(c vault.Changes, bad FormErrors) {
	if len(t.CustomFields) > maxOwns {
		bad["own"] = "An item has 50 fields of your own at most."
		return
	}
	for i, o := range t.CustomFields {
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
			bad["own"] = sentence(err)
			continue
		}
		t.CustomFields[i] = o
		f, value := o.Register()
		c[f] = value
	}
}

// title makes a title where none was typed: the site's, or what the item is of.
func (v *Vault) title(k vault.Kind, t *ItemForm) string {
	if len(t.Addresses) > 0 {
		if s, ok := v.Sites().Lookup(site.Domain(t.Addresses[0].URL)); ok {
			return s.Name
		}
		return site.Title(t.Addresses[0].URL)
	}
	value := func(f vault.Field) string { return t.Values[f] }
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
		s, _ := k.Spec(vault.FieldPaper)
		for _, c := range s.Choices {
			if c.Value == value(vault.FieldPaper) {
				return c.Words
			}
		}
	case vault.TypeMembership:
		return value(vault.FieldIssuer)
	case vault.TypeWiFi:
		return value(vault.FieldSSID)
	case vault.TypeNote:
		first, _, _ := strings.Cut(strings.TrimSpace(t.Notes), "\n")
		r := []rune(first)
		return string(r[:min(len(r), 60)])
	}
	return ""
}

// AsOf returns the book as it was at a moment, in milliseconds since 1970.
func (v *Vault) AsOf(ms int64) (*find.Index, error) {
	entries, err := v.pick(func(vault.Entry) bool { return true })
	if err != nil {
		return nil, err
	}
	var items []vault.Item
	for _, e := range entries {
		if then, ok := e.AsOf(ms); ok && then.IsItem() {
			items = append(items, vault.View(then))
		}
	}
	v.mu.RLock()
	defer v.mu.RUnlock()
	return find.NewIndex(items, v.findOptions()), nil
}

// DeviceNames returns the names of the vault's devices by id.
func (v *Vault) DeviceNames() map[string]string {
	if v.wait() != nil {
		return nil
	}
	v.mu.RLock()
	defer v.mu.RUnlock()
	out := map[string]string{}
	for id, h := range v.entries {
		if h.entry.Type == vault.TypeDevice {
			out[id] = h.entry.Text(vault.FieldName)
		}
	}
	return out
}

// ErrNoCode is returned for an item that has no one-time codes.
var ErrNoCode = errors.New("there are no one-time codes with this item")

// Code returns an item's one-time code of now.
func (v *Vault) Code(id string) (otp.Code, otp.Setup, error) {
	e, err := v.Entry(id)
	if err != nil {
		return otp.Code{}, otp.Setup{}, err
	}
	text := e.Secret(vault.FieldSetup)
	if text.IsEmpty() {
		return otp.Code{}, otp.Setup{}, ErrNoCode
	}
	s, err := otp.Parse(text)
	if err != nil {
		return otp.Code{}, s, err
	}
	c, err := s.Now(v.d.p.Now())
	return c, s, err
}

// NextCode moves the counter of an item's codes on, after one was used.
func (v *Vault) NextCode(ctx context.Context, id string) error {
	return v.existing(ctx, id, func(e vault.Entry) (vault.Entry, error) {
		s, err := otp.Parse(e.Secret(vault.FieldSetup))
		if err != nil || !s.Counts() {
			return e, ErrNoCode
		}
		s.Counter++
		return e.With(v.stamp(), vault.Changes{vault.FieldSetup: s.String()})
	})
}

// Expiry is an item whose day comes within [vault.Warning], or has passed.
type Expiry struct {
	Item vault.Item
	Over bool
	Days int // until it runs out, counted up
}

// Expiring says how an item stands to the day it runs out; ok is false while that is
// far off.
func (v *Vault) Expiring(it vault.Item) (r Expiry, ok bool) {
	end, dated := vault.Expiry(it.Expires)
	if !dated || it.Archived {
		return r, false
	}
	left := end.Sub(v.d.p.Now())
	return Expiry{it, left <= 0, int((left + 24*time.Hour - 1) / (24 * time.Hour))}, left <= vault.Warning
}

// ExpiringSoon lists what runs out soon or has, the first first.
func (v *Vault) ExpiringSoon() ([]Expiry, error) {
	x, err := v.Index()
	if err != nil {
		return nil, err
	}
	var out []Expiry
	x.Items(func(it *vault.Item) {
		if it.Expires == "" {
			return
		}
		if r, ok := v.Expiring(*it); ok {
			out = append(out, r)
		}
	})
	slices.SortStableFunc(out, func(a, b Expiry) int { return a.Days - b.Days })
	return out, nil
}
