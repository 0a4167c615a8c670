package filling

import (
	"context"
	"errors"
	"slices"
	"strings"

	"redlocket/app/records"
	"redlocket/core/autofill"
	"redlocket/core/secret"
	"redlocket/core/site"
	"redlocket/core/vault"
)

// Submitted notes that a form was sent. What it means is decided when the page is read
// again. The new password of a change is staged at its login at once; a sign-up with a
// password that was made is staged as a login of its own.
func (s *Prompts) Submitted(ctx context.Context, p Page, form int, values map[int]secret.Text) error {
	if alarm, err := s.core.alarm(p.URL); err != nil || alarm != nil || p.Opaque || p.elsewhere() != "" {
		return err
	}
	readings, err := s.core.readings(p)
	if err != nil {
		return err
	}
	for _, r := range readings {
		if r.Form != form {
			continue
		}
		a, ok := autofill.Submitted(p.Snapshot, r, values)
		if autofill.Masked(a.Username) {
			ok = ok && a.Kind.Changes()
			a.Username, a.Named = "", false
		}
		if !ok {
			return nil
		}
		return s.submitted(ctx, p, a)
	}
	return nil
}

func (s *Prompts) submitted(ctx context.Context, p Page, a autofill.Submission) error {
	switch a.Kind {
	case autofill.Forgot, autofill.CodeForm, autofill.ByMail, autofill.ForOther:
		return nil
	}
	held, err := s.note(p, a)
	switch {
	case err != nil:
		return err
	case held.submission.Kind.Joins():
		return s.stageSignUp(ctx, p, held)
	case held.submission.Kind.Changes():
		staged, err := s.stageChange(ctx, p, held)
		if err != nil || staged || held.login != "" {
			return err
		}
		if first, err := s.isFirst(held); err != nil || !first {
			return err
		}
		return s.stageSignUp(ctx, p, held)
	}
	return nil
}

// isFirst reports whether a password was set for an account that the vault doesn't know: one under a name, or, where
// the form asks for none, as behind the link of an invitation, at a site that the vault has no login of.
func (s *Prompts) isFirst(held prompt) (bool, error) {
	if held.submission.Username != "" || !held.submission.Nameless {
		return held.submission.Username != "", nil
	}
	items, err := s.core.matching(held.from.url)
	return err == nil && len(items) == 0, err
}

// note takes a submission down, and returns what is known of the tab then.
func (s *Prompts) note(p Page, a autofill.Submission) (out prompt, err error) {
	err = s.core.gate.Write(func(in *state) error {
		held := in.at(p, s.core.Now())
		defer func() { out = *held }()
		before := held.submission
		if in.confirms(held, p, a) {
			held.since, held.submission.Current = s.core.Now(), a.Password
			held.doc, held.alerts, held.shown = p.Snapshot.Doc, p.Snapshot.Alerts, ""
			return nil
		}
		if a.Kind == autofill.Again {
			if before.Username == "" || held.login != "" {
				return nil // asked of somebody who is signed in
			}
			a.Kind = autofill.SignIn // the second page of a sign-in
		}
		mail := before.Username != "" && !before.ByTelephone
		if a.Username == "" || a.Password.IsEmpty() && a.ByTelephone && mail {
			a.Username, a.ByTelephone = before.Username, before.ByTelephone // typed on the page before
		}
		held.since = s.core.Now()
		if a.Password.IsEmpty() {
			held.submission.Username, held.submission.ByTelephone = a.Username, a.ByTelephone
			return nil
		}
		held.submission, held.sent, held.from = a, true, origin{p.URL, p.Top, p.Frame}
		held.doc, held.alerts = p.Snapshot.Doc, p.Snapshot.Alerts
		held.shown, held.ready = "", nil
		if held.title == "" {
			held.title = p.siteTitle()
		}
		return nil
	})
	return out, err
}

// stageSignUp stages a login for a sign-up that was sent with a password made here: whatever
// becomes of the page, the login is in the vault. Sent again after the site refused it, it
// is the same one.
func (s *Prompts) stageSignUp(ctx context.Context, p Page, held prompt) error {
	items, err := s.core.matching(p.URL)
	if err != nil || held.submission.Password.IsEmpty() {
		return err
	}
	id := ""
	for _, it := range items {
		same := strings.EqualFold(it.Username, held.submission.Username)
		if same && !it.SigningUp() {
			return nil // it's in the vault: the prompt will ask about it
		}
		e, err := s.core.Set.Items.ToFill(it.ID)
		if err != nil && !errors.Is(err, records.ErrNoItem) {
			return err
		}
		if err == nil && it.SigningUp() && (same || e.Secret(vault.FieldStaged).Equal(held.submission.Password)) {
			id = it.ID
		}
	}
	c := vault.Changes{vault.FieldUsername: held.submission.Username}
	if id == "" {
		address := s.signInAddress(held)
		if address == "" || !held.submission.Password.Equal(held.made) {
			return nil
		}
		id = records.NewID()
		c = vault.Draft{
			Title: held.title, Username: held.submission.Username, Addresses: []vault.Address{{URL: address}},
		}.Changes()
	}
	c[vault.FieldStaged] = held.submission.Password
	if err := s.core.Set.Items.Save(ctx, id, c); err != nil {
		return err
	}
	return s.noteLogin(p, id)
}

// stageChange stages the new password of a change at its login, if it's clear which.
func (s *Prompts) stageChange(ctx context.Context, p Page, held prompt) (staged bool, err error) {
	a := held.submission
	id, err := s.changed(p, a, held.login)
	if err != nil || id == "" {
		return false, err
	}
	if err := s.noteLogin(p, id); err != nil {
		return true, err
	}
	if err := s.staged.Stage(ctx, id, a.Password); err != nil {
		return true, err
	}
	return true, s.staged.Sent(ctx, id, true)
}

// confirms reports whether what was sent is the present password, asked for once more after a change was sent: in a
// dialog of its page, or on a page that says so.
func (in *state) confirms(held *prompt, p Page, a autofill.Submission) bool {
	if !held.sent || !held.submission.Kind.Changes() || a.Password.IsEmpty() {
		return false
	}
	return a.Kind == autofill.Again || a.Kind == autofill.SignIn && !a.Named && p.Snapshot.Doc == held.doc
}

// changed finds the login whose password a form changes: by user name, by the present
// password, the one filled in this tab, or the only one of the site. A login that is kept for
// another host of the site has to have been filled in this tab: hosts of one site may belong to
// people who don't trust each other.
func (s *Prompts) changed(p Page, a autofill.Submission, filled string) (login string, err error) {
	items, err := s.core.matching(p.URL)
	if err != nil {
		return "", err
	}
	items = slices.DeleteFunc(items, func(it vault.Item) bool { return it.ID != filled && !keptAt(it, p.URL) })
	byPassword := ""
	for _, it := range items {
		if a.Username != "" && strings.EqualFold(it.Username, a.Username) {
			return it.ID, nil
		}
		e, err := s.core.Set.Items.ToFill(it.ID)
		if err != nil && !errors.Is(err, records.ErrNoItem) {
			return "", err
		}
		if err == nil && byPassword == "" && !a.Current.IsEmpty() && e.Secret(vault.FieldPassword).Equal(a.Current) {
			byPassword = it.ID
		}
	}
	switch {
	case byPassword != "":
		return byPassword, nil
	case slices.ContainsFunc(items, func(it vault.Item) bool { return it.ID == filled }):
		return filled, nil
	case len(items) == 1 && (a.Username == "" || items[0].Username == ""):
		return items[0].ID, nil
	}
	return "", nil
}

// Errors of prompts that were asked for by hand.
var (
	ErrNothingTyped = errors.New("there is no user name and no password on this page yet")
	ErrKnown        = errors.New("the vault has this sign-in already")
)

// ByHand makes a prompt of what stands in a page's form now, because the user asked for it.
func (s *Prompts) ByHand(ctx context.Context, p Page, form int, values map[int]secret.Text) (*SavePrompt, error) {
	var a autofill.Submission
	readings, err := s.core.readings(p)
	if err != nil {
		return nil, err
	}
	for _, r := range readings {
		if r.Form == form {
			a, _ = autofill.Submitted(p.Snapshot, r, values)
		}
	}
	if a.Password.IsEmpty() && a.Username == "" {
		return nil, ErrNothingTyped
	}
	a.Kind = autofill.SignIn
	var held prompt
	err = s.core.gate.Write(func(in *state) error {
		now := in.at(p, s.core.Now())
		now.submission, now.sent, now.byHand, now.from.url = a, true, true, p.URL
		now.since, now.title = s.core.Now(), p.siteTitle()
		held = *now
		return nil
	})
	if err != nil {
		return nil, err
	}
	address, err := site.Clean(p.URL)
	if err != nil {
		return nil, err
	}
	out, err := s.signedIn(ctx, p, held, address)
	if err == nil && out == nil {
		err = ErrKnown
	}
	return out, err
}
