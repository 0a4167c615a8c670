package filling

import (
	"context"
	"errors"
	"strings"

	"redlocket/core/site"
	"redlocket/core/vault"
)

// Accept makes a login of a page's prompt, or updates the one it names. What was changed on the
// prompt of a sign-up is changed at its login.
func (s *Prompts) Accept(ctx context.Context, p Page, answer SavePrompt) error {
	held, err := s.own(p, answer.ID)
	if err != nil {
		return err
	}
	if answer.Update != "" {
		if err := s.core.mustFit(answer.Update, held.from.url); err != nil {
			return err
		}
	}
	signedUp := held.shown == PromptSignedUp && answer.Update == held.login
	if answer.Update != "" && !signedUp {
		c := vault.Changes{vault.FieldPassword: held.submission.Password}
		if err := s.core.Set.Items.Save(ctx, answer.Update, c); err != nil {
			return err
		}
		return s.dismiss(answer.ID)
	}
	address, err := changedAddress(answer.Address, s.signInAddress(held))
	if err != nil {
		return err
	}
	if answer.Title = strings.TrimSpace(answer.Title); answer.Title == "" {
		answer.Title = site.Title(address)
	}
	if signedUp {
		if err := s.updateSignUp(ctx, held, answer, address); err != nil {
			return err
		}
		return s.dismiss(answer.ID)
	}
	d := vault.Draft{
		Title: answer.Title, Username: answer.Username, Password: held.submission.Password, Folder: answer.Folder,
		Addresses: []vault.Address{{URL: address}},
	}
	// The prompt's id is the login's: pressed twice, it is kept once.
	if err := s.core.Set.Items.Save(ctx, held.id, d.Changes()); err != nil {
		return err
	}
	return errors.Join(s.noteUsed(held.id, held.id), s.dismiss(answer.ID))
}

// updateSignUp writes what was changed on the prompt of a sign-up to its login.
func (s *Prompts) updateSignUp(ctx context.Context, held prompt, answer SavePrompt, address string) error {
	e, err := s.core.Set.Items.ToFill(held.login)
	if err != nil {
		return err
	}
	c := vault.Changes{vault.FieldTitle: answer.Title, vault.FieldFolder: vault.CleanFolder(answer.Folder)}
	if vault.View(e).Username == "" {
		c[vault.FieldUsername] = answer.Username
	}
	if address != s.signInAddress(held) { // else the login may know better by now
		c[vault.FieldAddresses] = []vault.Address{{URL: address}}
	}
	return s.core.Set.Items.Save(ctx, held.login, c)
}

// ErrOtherSite is returned for an address on a prompt that isn't of the page's site.
var ErrOtherSite = errors.New("this address belongs to another site than the page")

// changedAddress is the address as it was changed on a prompt: another page of the same site.
func changedAddress(typed, address string) (string, error) {
	if address == "" {
		return "", ErrNoPrompt
	}
	if typed == "" || typed == site.Shown(address) {
		return address, nil
	}
	if scheme, _, ok := strings.Cut(address, "://"); ok && !strings.Contains(typed, "://") {
		typed = scheme + "://" + typed
	}
	typed, err := site.Clean(typed)
	if err != nil {
		return "", err
	}
	if site.Domain(typed) != site.Domain(address) {
		return "", ErrOtherSite
	}
	return typed, nil
}

// NeverAsk keeps prompts from being shown on a site again.
func (s *Prompts) NeverAsk(ctx context.Context, url string) error {
	r := s.core.Set.Sites.Rule(site.Domain(url))
	r.NoAsk = true
	return s.core.Set.Sites.SetRule(ctx, r)
}
