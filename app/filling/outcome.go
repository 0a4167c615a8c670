package filling

import (
	"context"
	"errors"
	"slices"
	"strings"

	"redlocket/core/autofill"
	"redlocket/core/secret"
	"redlocket/core/site"
	"redlocket/core/vault"
)

// due returns the prompt to show on a page. What a frame of it finds out is shown by the page
// around it: up is true then.
func (s *Prompts) due(ctx context.Context, p Page, readings []autofill.Reading) (out *SavePrompt, up bool, err error) {
	out, err = s.outcome(ctx, p, readings)
	if err != nil || out == nil || !p.Frame {
		return out, false, err
	}
	err = s.core.gate.Write(func(in *state) error {
		if held, _, err := in.find(out.ID); err == nil {
			held.ready = out
		}
		return nil
	})
	return nil, true, err
}

// outcome returns the prompt that follows from this page, if it tells what the site made of
// what was sent from the page before.
func (s *Prompts) outcome(ctx context.Context, p Page, readings []autofill.Reading) (*SavePrompt, error) {
	var held prompt
	var ready *SavePrompt
	err := s.core.gate.Read(func(in *state) error {
		now := in.prompts[p.key()]
		if now == nil || !now.sent || now.submission.Password.IsEmpty() {
			return nil
		}
		held = *now
		if !p.Frame {
			ready = now.ready
		}
		return nil
	})
	if err != nil || held.id == "" || ready != nil {
		return ready, err
	}
	if held.from.frame != p.Frame && (p.Frame || held.from.top == p.Top) && !held.byHand {
		return nil, nil // what was sent from a frame is for that frame to tell, until the tab moves on
	}
	if held.shown == PromptSignedUp {
		return s.stillSignedUp(held)
	}
	address := s.signInAddress(held)
	if address == "" {
		return nil, nil
	}
	page := p.Snapshot
	if page.Doc != "" && page.Doc == held.doc { // the page that it was sent from: what it said before is no answer
		page.Status = 0
		if page.Alerts == held.alerts {
			page.Alerts = ""
		}
	}
	outcome := autofill.Judge(held.submission.Kind, page, readings)
	if held.byHand {
		outcome = autofill.Taken
	}
	if held.submission.Kind.Changes() {
		return s.changeOutcome(ctx, p, page, held, outcome)
	}
	switch outcome {
	case autofill.Waiting:
		return nil, nil
	case autofill.Refused:
		s.tellJudged(ctx, held, false)
		return nil, s.refused(held.id)
	}
	out, err := s.signedIn(ctx, p, held, address)
	if err == nil {
		s.tellJudged(ctx, held, true)
	}
	return out, err
}

// tellJudged tells what a site made of a sign-in.
func (s *Prompts) tellJudged(ctx context.Context, held prompt, taken bool) {
	if s.core.Judged != nil && !held.byHand {
		s.core.Judged(ctx, Judged{held.from.url, held.submission.Username, held.submission.Password, taken})
	}
}

// refused notes that the site didn't take what was sent: nothing is asked about it.
func (s *Prompts) refused(id string) error {
	return s.core.gate.Write(func(in *state) error {
		if held, _, err := in.find(id); err == nil {
			held.sent = false
		}
		return nil
	})
}

// stillSignedUp shows the prompt of a sign-up again, until it is answered.
func (s *Prompts) stillSignedUp(held prompt) (*SavePrompt, error) {
	e, err := s.core.Set.Items.ToFill(held.login)
	if err != nil || e.Archived() {
		return nil, s.dismiss(held.id)
	}
	return s.about(held, vault.View(e), PromptSignedUp)
}

// signInAddress is the address to keep for what was sent: the sign-in page. A page where one
// signs up or changes a password is none: then it's the one that the directory of sites
// knows, or the site's front page, until somebody signs in.
func (s *Prompts) signInAddress(held prompt) string {
	address, err := site.Clean(held.from.url)
	if err != nil {
		return ""
	}
	kind := held.submission.Kind
	if kind == autofill.SignIn || kind == autofill.FirstStep || held.byHand {
		return address
	}
	known, ok := s.core.Set.Sites.Directory().Lookup(site.Domain(address))
	if ok && known.SignIn != "" && site.Host(known.SignIn) == site.Host(address) {
		return known.SignIn
	}
	return site.WellKnown(address, "/")
}

// settleAddress makes the sign-in page the address of a login that was kept with its site's
// front page only. A page that asks for the password alone is none: it asks again.
func (s *Prompts) settleAddress(ctx context.Context, it vault.Item, held prompt) error {
	page, err := site.Clean(held.from.url)
	if err != nil || held.submission.Kind != autofill.SignIn || !held.submission.Named || len(it.Addresses) != 1 {
		return nil
	}
	if kept := it.Addresses[0].URL; kept != site.WellKnown(page, "/") || page == kept {
		return nil
	}
	list := []vault.Address{{URL: page, Match: it.Addresses[0].Match}}
	return s.core.Set.Items.Save(ctx, it.ID, vault.Changes{vault.FieldAddresses: list})
}

// signedIn is the prompt for a sign-in or sign-up that the site took; nil if there is nothing
// to ask.
func (s *Prompts) signedIn(ctx context.Context, p Page, held prompt, address string) (*SavePrompt, error) {
	typed := held.submission
	items, err := s.core.matching(held.from.url)
	if err != nil {
		return nil, err
	}
	if done, out, err := s.renamed(ctx, p, held, items); done || err != nil {
		return out, err
	}
	if e, err := s.core.Set.Items.ToFill(held.login); err == nil && !held.byHand {
		if it := vault.View(e); it.SigningUp() && e.Secret(vault.FieldStaged).Equal(typed.Password) {
			return s.confirm(ctx, held, it)
		}
	}
	if typed.Username == "" && !held.byHand {
		if known, err := s.unnamed(ctx, p, held, items); known || err != nil {
			return nil, err
		}
	}
	out := &SavePrompt{
		ID: held.id, Kind: PromptKeep, Title: held.title, Username: typed.Username, Address: site.Shown(address),
	}
	for _, it := range items {
		only := typed.Username == "" && len(items) == 1 && !held.byHand
		if !strings.EqualFold(it.Username, typed.Username) && !only {
			continue
		}
		e, err := s.core.Set.Items.ToFill(it.ID)
		if err != nil {
			return nil, err
		}
		switch {
		case e.Secret(vault.FieldPassword).Equal(typed.Password): // known already
			return nil, errors.Join(s.noteFilled(p, it), s.settleAddress(ctx, it, held), s.dismiss(held.id))
		case it.Staged && e.Secret(vault.FieldStaged).Equal(typed.Password):
			return s.confirm(ctx, held, it)
		}
		out.Kind, out.Update, out.Title, out.Folder = PromptUpdate, it.ID, it.Title, it.Folder
	}
	if s.core.Foresee != nil {
		out.Leaked, out.Others, err = s.core.Foresee(ctx, typed.Password, held.from.url, typed.Username)
	}
	return out, err
}

// unnamed deals with a password that was sent without a user name: nothing is asked where it's the password of one of
// the site's logins, where it could belong to several, nor where the name was left empty.
func (s *Prompts) unnamed(ctx context.Context, p Page, held prompt, items []vault.Item) (known bool, err error) {
	if !held.submission.Nameless {
		return true, nil // it was left empty
	}
	for _, it := range items {
		e, err := s.core.Set.Items.ToFill(it.ID)
		if err != nil {
			return true, err
		}
		if e.Secret(vault.FieldPassword).Equal(held.submission.Password) {
			return true, errors.Join(s.noteFilled(p, it), s.dismiss(held.id))
		}
		if it.Staged && e.Secret(vault.FieldStaged).Equal(held.submission.Password) {
			return false, nil
		}
	}
	return len(items) > 1, nil
}

// renamed corrects the user name of a login whose password was made here for its site and now signs in under another
// name: sites that ask for a name and an e-mail address sign in by one of them. What it was called stays findable.
func (s *Prompts) renamed(
	ctx context.Context, p Page, held prompt, items []vault.Item,
) (done bool, out *SavePrompt, err error) {
	typed := held.submission
	if typed.Username == "" || typed.Kind != autofill.SignIn || held.byHand {
		return false, nil, nil
	}
	made, err := s.wasMade(typed.Password)
	if err != nil || !made {
		return false, nil, err
	}
	var found *vault.Item
	for _, it := range items {
		if strings.EqualFold(it.Username, typed.Username) {
			return false, nil, nil
		}
		e, err := s.core.Set.Items.ToFill(it.ID)
		if err != nil {
			return false, nil, err
		}
		if e.SignsInWith().Equal(typed.Password) || e.Secret(vault.FieldStaged).Equal(typed.Password) {
			found = &it
		}
	}
	if found == nil {
		return false, nil, nil
	}
	c := vault.Changes{vault.FieldUsername: typed.Username}
	if found.Username != "" && !slices.Contains(found.Aliases, found.Username) {
		c[vault.FieldAliases] = append(slices.Clone(found.Aliases), found.Username)
	}
	if err := s.core.Set.Items.Save(ctx, found.ID, c); err != nil {
		return true, nil, err
	}
	e, err := s.core.Set.Items.ToFill(found.ID)
	if err != nil {
		return true, nil, err
	}
	it := vault.View(e)
	if it.Staged {
		out, err = s.confirm(ctx, held, it)
		return true, out, err
	}
	return true, nil, errors.Join(s.noteFilled(p, it), s.settleAddress(ctx, it, held), s.dismiss(held.id))
}

// wasMade reports whether a password was made here lately.
func (s *Prompts) wasMade(password secret.Text) (yes bool, err error) {
	err = s.core.gate.Read(func(in *state) error {
		yes = slices.ContainsFunc(in.generated, func(g GeneratedPassword) bool {
			return secret.New(g.Password).Equal(password)
		})
		return nil
	})
	return yes, err
}

// changeOutcome is the prompt for a change of password that is staged.
func (s *Prompts) changeOutcome(
	ctx context.Context, p Page, page autofill.Snapshot, held prompt, outcome autofill.Outcome,
) (*SavePrompt, error) {
	e, err := s.core.Set.Items.ToFill(held.login)
	if held.login == "" || err != nil {
		first, err := s.isFirst(held)
		if outcome != autofill.Taken || err != nil || !first {
			return nil, err
		}
		return s.signedIn(ctx, p, held, s.signInAddress(held))
	}
	it := vault.View(e)
	if !it.Staged {
		return nil, s.dismiss(held.id) // decided in the vault meanwhile
	}
	switch outcome {
	case autofill.Refused:
		if err := s.staged.refused(ctx, held.login, page.Alerts); err != nil {
			return nil, err
		}
		return s.about(held, it, PromptRefused)
	case autofill.Waiting:
		return nil, nil
	}
	// A page may say what it likes: signing in with the new password tells, or the user does.
	return s.about(held, it, PromptWaiting)
}

// confirm makes the password that waits the login's own: the site took it.
func (s *Prompts) confirm(ctx context.Context, held prompt, it vault.Item) (*SavePrompt, error) {
	if err := s.staged.Confirm(ctx, it.ID); err != nil {
		return nil, err
	}
	if !it.SigningUp() {
		return s.about(held, it, PromptConfirmed)
	}
	if err := s.settleAddress(ctx, it, held); err != nil {
		return nil, err
	}
	if err := s.noteUsed(held.id, it.ID); err != nil {
		return nil, err
	}
	return s.about(held, it, PromptSignedUp)
}

// about makes the prompt that says how a change stands; each is shown once. That of a sign-up
// stands until it is answered.
func (s *Prompts) about(held prompt, it vault.Item, kind PromptKind) (out *SavePrompt, err error) {
	address := site.Shown(s.signInAddress(held))
	err = s.core.gate.Write(func(in *state) error {
		now, _, err := in.find(held.id)
		if err != nil || now.shown == kind && kind != PromptSignedUp {
			return nil // answered or shown already
		}
		now.shown = kind
		if kind != PromptWaiting && kind != PromptSignedUp {
			now.sent = false
		}
		out = &SavePrompt{
			ID: held.id, Kind: kind, Title: it.Title, Username: it.Username, Address: address, Folder: it.Folder,
			Update: it.ID,
		}
		return nil
	})
	return out, err
}
