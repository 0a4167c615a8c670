package filling

import (
	"context"
	"errors"
	"fmt"

	"redlocket/core/autofill"
	"redlocket/core/generator"
	"redlocket/core/secret"
	"redlocket/core/vault"
)

// Values is what a fill hands out: by field, what to type.
type Values struct {
	Fills  []FieldValue    `json:"fills"`
	Missed []autofill.Miss `json:"-"`                // fields that should have got something
	Copy   string          `json:"copy,omitempty"`   // a one-time code, for the page that comes next
	Clear  int             `json:"clear,omitempty"`  // when it is cleared again, in seconds; 0 for never
	Submit bool            `json:"submit,omitempty"` // the form is to be sent
}

// FieldValue is one value for one field.
type FieldValue struct {
	Field int    `json:"field"`
	Role  string `json:"role"`
	Value string `json:"value"`
}

// Part says what of an item is filled.
type Part string

// The parts.
const (
	PartLogin   Part = "login"
	PartStaged  Part = "staged" // the login with the new password that waits
	PartCode    Part = "code"   // the one-time code alone
	PartCard    Part = "card"   // all but the security code
	PartSafety  Part = "csc"    // the security code alone
	PartDetails Part = "details"
)

// Request is what is to be filled into one form of a page, by the user's press.
type Request struct {
	ID   string
	Form int
	Part Part
	// Elsewhere is the other site that the form sends to, or that the frame belongs to, as
	// the user was told and said yes to.
	Elsewhere string
	Submit    bool // the user chose, in the book, that the form is sent
}

// Errors of filling.
var (
	ErrWrongSite = errors.New("this login doesn't belong to this page")
	ErrNoForm    = errors.New("there is nothing to fill here")
	ErrInClear   = errors.New("this page came without https, so no card is filled in it")
)

// ElsewhereError is returned where a form or frame has to do with another site than the
// page's, and the user hasn't said yes to that one.
type ElsewhereError struct{ Site string }

func (e *ElsewhereError) Error() string {
	return fmt.Sprintf("this would go to %s; nothing was filled", e.Site)
}

// Fill hands out the values of an item for one form of a page, and only those that the form
// has fields for. A login must match the frame's own address.
func (s *Pages) Fill(ctx context.Context, p Page, r Request) (Values, error) {
	e, err := s.core.Set.Items.ToFill(r.ID)
	if err != nil {
		return Values{}, err
	}
	reading, err := s.allowed(p, r.Form, r.Elsewhere)
	if err != nil {
		return Values{}, err
	}
	values, err := s.valuesOf(e, p, reading, r.Part)
	if err != nil {
		return Values{}, err
	}
	if r.Part == PartLogin && s.core.NameToTry != nil {
		if name, ok := s.core.NameToTry(ctx, r.ID); ok {
			values.Username = secret.New(name)
		}
	}
	if err := s.core.Set.Book.Use(r.ID); err != nil {
		return Values{}, err
	}
	s.core.Used()
	out := planned(p, reading, values)
	if r.Part != PartLogin && r.Part != PartStaged {
		return out, nil
	}
	it := vault.View(e)
	if err := s.prompts.noteFilled(p, it); err != nil {
		return Values{}, err
	}
	if it.HasCode && reading.Kind == autofill.SignIn && !reading.Has(autofill.OneTimeCode) {
		if c, err := s.core.Set.Items.CodeToFill(r.ID); err == nil {
			out.Copy, out.Clear = c.Text.Reveal(), int(s.core.Clipboard().Seconds())
		}
	}
	out.Submit = r.Submit && e.Text(vault.FieldSubmit) == "yes" && len(out.Missed) == 0
	return out, nil
}

// allowed returns what the form was found to be, if it may be filled at all. elsewhere is the
// other site that the user said yes to.
func (s *Pages) allowed(p Page, form int, elsewhere string) (autofill.Reading, error) {
	alarm, err := s.core.alarm(p.URL)
	if err != nil {
		return autofill.Reading{}, err
	}
	if alarm != nil || p.Opaque {
		return autofill.Reading{}, ErrWrongSite
	}
	for _, to := range []string{p.elsewhere(), p.sendsElsewhere(form)} {
		if to != "" && elsewhere != to {
			return autofill.Reading{}, &ElsewhereError{to}
		}
	}
	readings, err := s.core.readings(p)
	if err != nil {
		return autofill.Reading{}, err
	}
	for _, r := range readings {
		if r.Form == form {
			return r, nil
		}
	}
	return autofill.Reading{}, ErrNoForm
}

// valuesOf takes a part out of an entry, if it belongs to the page.
func (s *Pages) valuesOf(e vault.Entry, p Page, reading autofill.Reading, part Part) (v autofill.Values, err error) {
	if e.Archived() {
		return v, ErrWrongSite
	}
	switch part {
	case PartCard, PartSafety:
		if e.Kind() != vault.TypeCard || !reading.Card {
			return v, ErrWrongSite
		}
		if !p.secure() {
			return v, ErrInClear
		}
		v.Card = cardOf(e, part)
	case PartDetails:
		if e.Kind() != vault.TypePerson {
			return v, ErrWrongSite
		}
		v.Person = personOf(e)
	default:
		if err := s.core.mustFit(e.ID, p.URL); err != nil {
			return v, err
		}
		return s.loginOf(e, part)
	}
	return v, nil
}

func planned(p Page, r autofill.Reading, values autofill.Values) Values {
	fills, missed := autofill.Plan(p.Snapshot, r, values)
	out := Values{Fills: []FieldValue{}, Missed: missed}
	for _, f := range fills {
		out.Fills = append(out.Fills, FieldValue{f.Field, string(f.Role), f.Value.Reveal()})
	}
	return out
}

func (s *Pages) loginOf(e vault.Entry, part Part) (autofill.Values, error) {
	out := autofill.Values{Username: e.Secret(vault.FieldUsername), Password: e.SignsInWith()}
	if part == PartStaged {
		out.Password = e.Secret(vault.FieldStaged)
	}
	if c, err := s.core.Set.Items.CodeToFill(e.ID); err == nil {
		out.Code = c.Text
	} else if part == PartCode {
		return out, err
	}
	if part == PartCode {
		out.Username, out.Password = secret.Text{}, secret.Text{}
	}
	return out, nil
}

func cardOf(e vault.Entry, part Part) *autofill.Card {
	if part == PartSafety {
		return &autofill.Card{Code: e.Secret(vault.FieldCode)}
	}
	c := &autofill.Card{
		Name: e.Secret(vault.FieldHolder), Number: e.Secret(vault.FieldNumber),
		Brand: vault.Brand(e.Text(vault.FieldNumber)),
	}
	_, _ = fmt.Sscanf(e.Text(vault.FieldExpiry), "%d-%d", &c.Year, &c.Month) // left at zero where it isn't known
	return c
}

func personOf(e vault.Entry) autofill.Person {
	k, _ := vault.KindOf(vault.TypePerson)
	out := autofill.Person{}
	for _, s := range k.Specs {
		if t := e.Text(s.Field); t != "" && s.Token != "" {
			out[autofill.Role(s.Token)] = t
		}
	}
	return out
}

// NewPasswordRequest says what a new password is made for.
type NewPasswordRequest struct {
	Form      int
	Username  string // as it stands in the form
	Login     string // the login that it is for, on a form that changes a password
	Elsewhere string
	Field     int // that was pressed; 0 if it isn't known
}

// FillNew makes a password that the page and the directory of sites will take, and hands it
// out for its boxes. It is kept in [Generated] from then on. On a form that changes a password
// it is staged at its login, whose present one is filled too; on one that signs up, a login
// is staged once the form is sent.
func (s *Pages) FillNew(ctx context.Context, p Page, n NewPasswordRequest) (Values, error) {
	reading, err := s.allowed(p, n.Form, n.Elsewhere)
	if err != nil {
		return Values{}, err
	}
	if !reading.Has(autofill.NewPassword) {
		return Values{}, ErrNoForm
	}
	values := autofill.Values{Username: secret.New(n.Username)}
	if n.Login != "" {
		e, err := s.core.Set.Items.ToFill(n.Login)
		if err != nil {
			return Values{}, err
		}
		if !reading.Kind.Changes() {
			return Values{}, ErrWrongSite
		}
		if err := s.core.mustFit(n.Login, p.URL); err != nil {
			return Values{}, err
		}
		values.Username, values.Password = e.Secret(vault.FieldUsername), e.SignsInWith()
	}
	rules, _ := s.core.Set.Sites.Directory().RulesFor(p.URL)
	demands := autofill.DemandsOf(p.Snapshot, reading).With(rules)
	if values.NewPassword, err = s.madeBefore(p, reading, n); err != nil {
		return Values{}, err
	}
	if values.NewPassword.IsEmpty() {
		values.NewPassword, err = autofill.MakePassword(s.core.Rand, generator.Default(), demands)
		if err != nil {
			return Values{}, err
		}
		made := GeneratedPassword{Password: values.NewPassword.Reveal(), Site: p.siteTitle(), URL: p.URL}
		if _, err := s.generated.Keep(ctx, made, 0); err != nil {
			return Values{}, err
		}
	}
	if n.Login != "" {
		if err := s.staged.Stage(ctx, n.Login, values.NewPassword); err != nil {
			return Values{}, err
		}
	}
	s.core.Used()
	if err := s.prompts.noteNew(p, reading.Kind, n, values.NewPassword); err != nil {
		return Values{}, err
	}
	return planned(p, reading, values), nil
}

// madeBefore is the password that was made for the form already, where a press at a box that is empty asks for its
// repetition and not for another one; empty where none was.
func (s *Pages) madeBefore(p Page, r autofill.Reading, n NewPasswordRequest) (made secret.Text, err error) {
	repeats := autofill.Repeats(p.Snapshot, r, n.Field)
	if !repeats {
		return secret.Text{}, nil
	}
	err = s.core.gate.Read(func(in *state) error {
		held := in.prompts[p.key()]
		if held != nil && (n.Login == "" || held.login == n.Login) && s.core.Now().Sub(held.since) < promptLife {
			made = held.made
		}
		return nil
	})
	return made, err
}
