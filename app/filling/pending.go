package filling

import (
	"slices"
	"time"

	"redlocket/core/autofill"
	"redlocket/core/site"
	"redlocket/core/vault"
)

// FillNow is a login that is to be filled into the page without asking: the user came from
// the book, or chose so for this login.
type FillNow struct {
	ID     string `json:"id"`
	Form   int    `json:"form"`
	Submit bool   `json:"submit"`
}

// pendingFill is where a person was sent from the book: their next page there is filled, in the
// tab that was opened and at a host that the login is kept for.
type pendingFill struct {
	login string
	until time.Time
}

// pendingFor is how long a page has to come up after the user was sent there.
const pendingFor = 2 * time.Minute

// ExpectFill notes that a login's site was opened from the book, so that its page is filled.
func (s *Pages) ExpectFill(login string) error {
	if err := s.core.Set.Book.Use(login); err != nil {
		return err
	}
	return s.core.gate.Write(func(in *state) error {
		in.pending = pendingFill{login, s.core.Now().Add(pendingFor)}
		return nil
	})
}

// keptAt reports whether a login is kept for the very host of an address, not only for its site.
func keptAt(it vault.Item, url string) bool {
	return slices.ContainsFunc(it.Addresses, func(a vault.Address) bool { return site.Host(a.URL) == site.Host(url) })
}

// signInForm returns the first form that takes a sign-in of the page's own site.
func signInForm(readings []FormView) (form FormView, ok bool) {
	for _, r := range readings {
		if (r.Kind == autofill.SignIn || r.Kind == autofill.FirstStep) && r.Elsewhere == "" {
			return r, true
		}
	}
	return form, false
}

// fillNow says whether a page is to be filled without asking: because the user came from the
// book, or wants so for the likely login. A form that came back isn't filled again.
func (s *Pages) fillNow(p Page, items []vault.Item, readings []FormView) (*FillNow, error) {
	form, ok := signInForm(readings)
	if !ok || len(items) == 0 || autofill.Judge(autofill.SignIn, p.Snapshot, nil) == autofill.Refused {
		return nil, nil
	}
	login, came := "", false
	err := s.core.gate.Write(func(in *state) error {
		held := in.prompts[p.key()]
		if came = held != nil && held.sent && held.submission.Kind == autofill.SignIn; came {
			return nil
		}
		for _, it := range items {
			if p.Opened && it.ID == in.pending.login && keptAt(it, p.URL) && s.core.Now().Before(in.pending.until) {
				login = it.ID
			}
		}
		if login != "" && form.Kind != autofill.FirstStep { // its second step is filled too
			in.pending = pendingFill{}
		}
		return nil
	})
	if err != nil || came {
		return nil, err
	}
	asked := login != ""
	if !asked {
		if login = items[0].ID; !keptAt(items[0], p.URL) {
			return nil, nil
		}
	}
	e, err := s.core.Set.Items.ToFill(login)
	if err != nil || !asked && e.Text(vault.FieldAlone) != "yes" {
		return nil, nil // nothing is filled where nobody asked for it
	}
	return &FillNow{ID: login, Form: form.Form, Submit: e.Text(vault.FieldSubmit) == "yes"}, nil
}
