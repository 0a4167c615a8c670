package app

import (
	"time"

	"redlocket/core/autofill"
	"redlocket/core/vault"
)

// PendingFill is a login that is to be filled into the page without asking: its user came from
// the book, or chose so for this login.
type PendingFill struct {
	ID     string `json:"id"`
	Form   int    `json:"form"`
	Submit bool   `json:"submit"`
}

// going is where a person was sent from the book: their next page there is filled.
type going struct {
	id    string
	until time.Time
}

// goingFor is how long a page has to come up after its user was sent there.
const goingFor = 2 * time.Minute

// ExpectFill notes that a login's site was opened from the book, so that its page is filled.
func (v *Vault) ExpectFill(id string) {
	v.Use(id)
	v.mu.Lock()
	defer v.mu.Unlock()
	v.going = going{id, v.d.p.Now().Add(goingFor)}
}

// goNow says whether a page is to be filled without asking: because its user came from the
// book, or wants so for the likely login. A form that came back isn't filled again.
func (v *Vault) goNow(p Page, items []vault.Item, readings []FormView) *PendingFill {
	form := -1
	first := false
	for _, r := range readings {
		if (r.Kind == autofill.SignIn || r.Kind == autofill.FirstStep) && r.Elsewhere == "" && form < 0 {
			form, first = r.Form, r.Kind == autofill.FirstStep
		}
	}
	if form < 0 || len(items) == 0 || autofill.Judge(autofill.SignIn, p.Snapshot, nil) == autofill.Refused {
		return nil
	}
	v.mu.Lock()
	sent := v.going
	if s := v.slip[slipKey(p)]; s != nil && s.sent && s.attempt.Kind == autofill.SignIn {
		v.mu.Unlock()
		return nil
	}
	id := ""
	for _, it := range items {
		if it.ID == sent.id && v.d.p.Now().Before(sent.until) {
			id = it.ID
			if !first {
				v.going = going{}
			}
		}
	}
	v.mu.Unlock()
	if id == "" {
		e, err := v.Entry(items[0].ID)
		if err != nil || e.Text(vault.FieldAlone) != "yes" {
			return nil
		}
		id = items[0].ID
	}
	e, err := v.Entry(id)
	if err != nil {
		return nil
	}
	return &PendingFill{ID: id, Form: form, Submit: e.Text(vault.FieldSubmit) == "yes"}
}
