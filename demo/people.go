package demo

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"redlocket/app"
	"redlocket/app/household"
	"redlocket/app/records"
	"redlocket/app/sharing"
	"redlocket/core/secret"
	"redlocket/core/share"
	"redlocket/core/vault"
)

// people has everybody know whom they know, and share what they share. Two of three are to help Maren; sheet is hers.
func people(ctx context.Context, maren, idris, wren, rosa *app.Vault, sheet app.Sheet) error {
	for _, two := range [][2]*app.Vault{{maren, idris}, {maren, wren}, {maren, rosa}} {
		if err := meet(ctx, two[0], two[1]); err != nil {
			return fmt.Errorf("failed to have two people know each other: %w", err)
		}
	}
	if err := notes(ctx, maren, idris); err != nil {
		return fmt.Errorf("failed to pass notes: %w", err)
	}
	if err := shared(ctx, "Family", familys, maren, share.Change, idris); err != nil {
		return fmt.Errorf("failed to share the family's book: %w", err)
	}
	if err := shared(ctx, "Allotment Society", allotments, maren, share.Change, idris, rosa); err != nil {
		return fmt.Errorf("failed to share the allotments' book: %w", err)
	}
	helpers := app.Helpers{Need: 2, Code: strings.Join(sheet.Recovery, ""), Password: secret.New(MarenPassword)}
	for _, email := range []string{IdrisEmail, WrenEmail, RosaEmail} {
		p, err := known(ctx, maren, email, household.Checked)
		if err != nil {
			return err
		}
		helpers.Peers = append(helpers.Peers, p.ID)
	}
	if err := maren.Helpers.Arrange(ctx, helpers); err != nil {
		return fmt.Errorf("failed to have people help: %w", err)
	}
	for _, v := range []*app.Vault{idris, wren, rosa} {
		if err := until(ctx, func() (bool, error) {
			list, err := v.Helping.Held()
			return len(list) == 1, err
		}); err != nil {
			return err
		}
	}
	return errors.Join(inStep(ctx, idris), inStep(ctx, wren), inStep(ctx, rosa), inStep(ctx, maren))
}

// passwords are the people's master passwords, by address.
var passwords = map[string]string{
	MarenEmail: MarenPassword, IdrisEmail: IdrisPassword, WrenEmail: WrenPassword, RosaEmail: RosaPassword,
}

// meet has two people know each other. The first one asks.
func meet(ctx context.Context, one, other *app.Vault) error {
	first := func(v *app.Vault) string { f, _, _ := strings.Cut(v.Profile().Name, " "); return f }
	if _, err := one.Household.Ask(ctx, other.Profile().Email, first(other)); err != nil {
		return err
	}
	asks, err := known(ctx, other, one.Profile().Email, household.Asks)
	if err != nil {
		return err
	}
	if err := other.Household.Answer(ctx, asks.ID, first(one)); err != nil {
		return err
	}
	for _, side := range [][2]*app.Vault{{one, other}, {other, one}} {
		p, err := known(ctx, side[0], side[1].Profile().Email, household.Compare)
		if err == nil {
			err = side[0].Reauthenticate(secret.New(passwords[side[0].Profile().Email]))
		}
		if err == nil {
			err = side[0].Household.Same(ctx, p.ID)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// notes has Idris pass Maren two things that she hasn't opened.
func notes(ctx context.Context, maren, idris *app.Vault) error {
	to, err := known(ctx, idris, MarenEmail, household.Checked)
	if err != nil {
		return err
	}
	gate := household.Passing{Text: "The allotment gate is 4471 from Monday on."}
	if _, err := idris.Household.Pass(ctx, to.ID, gate); err != nil {
		return err
	}
	logins, err := idris.Book.Logins()
	if err != nil {
		return err
	}
	i := slices.IndexFunc(logins, func(it vault.Item) bool { return it.Title == "Slipway Moorings" })
	if i < 0 {
		return errors.New("the moorings are missing")
	}
	boat := household.Passing{Text: "If you take the boat on Saturday.", Item: logins[i].ID}
	if _, err := idris.Household.Pass(ctx, to.ID, boat); err != nil {
		return err
	}
	return until(ctx, func() (bool, error) {
		list, err := maren.Household.Unread()
		return len(list) == 2, err
	})
}

// The titles of Maren's logins that are the family's, and the allotments'.
var (
	familys = []string{
		"Saltmarsh School", "Saltmarsh School meals", "Sloop Music", "Whelk Streaming", "Wrasse Video Calls",
	}
	allotments = []string{"Allotment Society", "Kelp & Crown", "Zostera Seeds"}
)

// shared puts some of an owner's logins into a book, which they share with others.
func shared(
	ctx context.Context, name string, titles []string, owner *app.Vault, right share.Right, with ...*app.Vault,
) error {
	book, err := owner.Books.Make(ctx, name)
	if err != nil {
		return err
	}
	logins, err := owner.Book.Logins()
	if err != nil {
		return err
	}
	var ids []string
	for _, it := range logins {
		if slices.Contains(titles, it.Title) {
			ids = append(ids, it.ID)
		}
	}
	_, err = owner.Acts.MoveTo(ctx, book, ids...)
	if err := errors.Join(err, owner.Books.Turn(ctx, records.AllBooks)); err != nil {
		return err
	}
	for _, v := range with {
		p, err := known(ctx, owner, v.Profile().Email, household.Checked)
		if err != nil {
			return err
		}
		set, err := owner.Sharing.ShareBook(ctx, book, p.ID, right)
		if err != nil {
			return err
		}
		if err := take(ctx, v, set, len(ids)); err != nil {
			return err
		}
	}
	return nil
}

// take takes what is shared, and waits until it is there.
func take(ctx context.Context, v *app.Vault, set string, n int) error {
	err := until(ctx, func() (bool, error) {
		of, err := v.Sharing.Of(set)
		if errors.Is(err, sharing.ErrNoSet) {
			return false, nil
		}
		return of.Waits, err
	})
	if err != nil {
		return err
	}
	if err := v.Sharing.Take(ctx, set); err != nil {
		return err
	}
	err = until(ctx, func() (bool, error) {
		list, err := v.Book.Entries(func(e vault.Entry) bool { in, _ := e.Share(); return in == set && e.IsItem() })
		return len(list) == n, err
	})
	return errors.Join(err, inStep(ctx, v))
}

// known waits until somebody is known in a state.
func known(ctx context.Context, v *app.Vault, email string, s household.State) (p household.Person, err error) {
	return p, until(ctx, func() (bool, error) {
		list, err := v.Household.People()
		i := slices.IndexFunc(list, func(p household.Person) bool { return p.Email == email && p.State == s })
		if i >= 0 {
			p = list[i]
		}
		return i >= 0, err
	})
}
