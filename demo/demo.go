// Package demo fills a cloud and three devices with the demo data.
package demo

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"redlocket/app"
	"redlocket/app/household"
	"redlocket/app/records"
	"redlocket/app/sharing"
	"redlocket/app/syncing"
	"redlocket/core/leaks"
	"redlocket/core/secret"
	"redlocket/core/share"
	"redlocket/core/vault"
	"redlocket/core/wire"
	"redlocket/practice"
)

// Devices are the demo's devices.
type Devices struct{ Desk, Laptop, Idris *app.Device }

// Residents are the accounts that the demo's logins have in the practice town.
func Residents() []practice.Resident {
	var out []practice.Resident
	for _, r := range town(func(name, _ string) string { return name }) {
		out = append(out, practice.Resident{Site: r[1], User: r[2], Password: r[3]})
	}
	return out
}

// LeakList is a made-up list of leaked passwords, as such lists are written: some of the town's, among others.
func LeakList() string {
	var b strings.Builder
	for _, p := range []string{"winkle7", "Ropewalk-1984", "harbour", "lantern", "saltmarsh1", "ferry2019"} {
		fmt.Fprintf(&b, "%s:%d\n", leaks.HashOf(secret.New(p)), 3)
	}
	return b.String()
}

// Leaks are made-up leaks in which the town's people are: some of long ago, and one of the day of now.
func Leaks(now time.Time) map[leaks.Thing][]leaks.Leak {
	hotels := leaks.Leak{Name: "Samphire Hotels", Site: "samphirehotels.example", Day: "2021-06-14", What: "bookings"}
	museum := leaks.Leak{Name: "Harbour Museum", Site: "harbourmuseum.example", Day: "2019-02-03"}
	books := leaks.Leak{Name: "Barnacle Books", Site: "barnaclebooks.example", Day: now.Format(time.DateOnly)}
	rail := leaks.Leak{Name: "Sandpiper Rail", Site: "sandpiper-rail.example", Day: "2018-09-21", What: "journeys"}
	return map[leaks.Thing][]leaks.Leak{
		{Kind: leaks.KindMail, Text: MarenEmail}:         {hotels, museum, books},
		{Kind: leaks.KindMail, Text: IdrisEmail}:         {museum},
		{Kind: leaks.KindUser, Text: "mtolliver"}:        {rail},
		{Kind: leaks.KindCard, Text: "4012888888881881"}: {hotels},
	}
}

// proved goes on with the code that the cloud mailed, if it wants one.
func proved(ctx context.Context, v *app.Vault, mailed func(context.Context, string) (string, error)) error {
	w := v.Account.Wanted(ctx)
	if w.Cloud == "" {
		return nil
	}
	code, err := mailed(ctx, v.Profile().Email)
	if err == nil {
		err = v.Account.JoinCloud(ctx, w.Cloud, wire.Admission{Code: code})
	}
	if err != nil {
		return fmt.Errorf("failed to make the account of %s: %w", v.Profile().Email, err)
	}
	return nil
}

// Fill makes Maren's and Idris's vaults, unless they are there already. Practice
// gives the address of a page of a practice site. Maren's vault gets size logins
// if that is more than the demo's own. Mailed waits for the code that the cloud mails to an address. Say is told what
// goes on.
func Fill(
	ctx context.Context,
	d Devices,
	cloud string,
	practice func(site, path string) string,
	mailed func(ctx context.Context, email string) (string, error),
	size int,
	say func(string),
) error {
	if cards, err := d.Desk.Profiles(ctx); err != nil || len(cards) > 0 {
		return err
	}
	say("Maren's vault on the desk computer")
	desk, err := d.Desk.Create(ctx, person("Maren Tolliver", MarenEmail, MarenPassword, cloud, "desk"))
	if err != nil {
		return fmt.Errorf("failed to make Maren's vault: %w", err)
	}
	if err := proved(ctx, desk, mailed); err != nil {
		return err
	}
	if err := desk.Items.SaveAll(ctx, drafts(slices.Concat(marens, town(practice), more(max(0,
		size-len(marens)))))); err != nil {
		return err
	}
	if err := keepOthers(ctx, desk); err != nil {
		return err
	}
	sheet, err := desk.Account.Sheet(ctx)
	if err != nil {
		return err
	}
	if err := desk.Account.CheckSheet(ctx, typedBack(sheet)); err != nil {
		return err
	}
	if err := inStep(ctx, desk); err != nil {
		return err
	}
	say("the same on her laptop, through the cloud")
	laptop, err := d.Laptop.Join(
		ctx,
		app.Join{
			Email:      MarenEmail,
			Cloud:      cloud,
			Password:   secret.New(MarenPassword),
			Carried:    strings.Join(sheet.Carried, ""),
			DeviceName: "laptop",
		},
	)
	if err != nil {
		return fmt.Errorf("failed to bring Maren's vault to the laptop: %w", err)
	}
	if err := inStep(ctx, laptop); err != nil {
		return err
	}
	say("Idris's vault on his computer")
	idris, err := d.Idris.Create(ctx, person("Idris Tolliver", IdrisEmail, IdrisPassword, cloud, "workshop"))
	if err != nil {
		return fmt.Errorf("failed to make Idris's vault: %w", err)
	}
	if err := proved(ctx, idris, mailed); err != nil {
		return err
	}
	if err := idris.Items.SaveAll(ctx, drafts(idriss)); err != nil {
		return err
	}
	sheet, err = idris.Account.Sheet(ctx)
	if err != nil {
		return err
	}
	if err := idris.Account.CheckSheet(ctx, typedBack(sheet)); err != nil {
		return err
	}
	if err := inStep(ctx, idris); err != nil {
		return err
	}
	say("the two of them compare six words")
	if err := meet(ctx, desk, idris); err != nil {
		return fmt.Errorf("failed to have Maren and Idris know each other: %w", err)
	}
	say("and share the family's book")
	if err := family(ctx, desk, idris); err != nil {
		return fmt.Errorf("failed to share the family's book: %w", err)
	}
	if err := inStep(ctx, laptop); err != nil {
		return err
	}
	for _, v := range []*app.Vault{desk, laptop, idris} {
		v.Lock()
	}
	return nil
}

// meet has Maren and Idris know each other. Idris has passed her two things that she hasn't opened.
func meet(ctx context.Context, maren, idris *app.Vault) error {
	if _, err := maren.Household.Ask(ctx, IdrisEmail, "Idris"); err != nil {
		return err
	}
	asks, err := known(ctx, idris, MarenEmail, household.Asks)
	if err != nil {
		return err
	}
	if err := idris.Household.Answer(ctx, asks.ID, "Maren"); err != nil {
		return err
	}
	for _, side := range []struct {
		v               *app.Vault
		email, password string
	}{{maren, IdrisEmail, MarenPassword}, {idris, MarenEmail, IdrisPassword}} {
		p, err := known(ctx, side.v, side.email, household.Compare)
		if err == nil {
			err = side.v.Reauthenticate(secret.New(side.password))
		}
		if err == nil {
			err = side.v.Household.Same(ctx, p.ID)
		}
		if err != nil {
			return err
		}
	}
	gate := household.Passing{Text: "The allotment gate is 4471 from Monday on."}
	if _, err := idris.Household.Pass(ctx, asks.ID, gate); err != nil {
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
	if _, err := idris.Household.Pass(ctx, asks.ID, boat); err != nil {
		return err
	}
	return until(ctx, func() (bool, error) {
		list, err := maren.Household.Unread()
		return len(list) == 2, err
	})
}

// familys are Maren's logins that are the family's.
var familys = []string{
	"Saltmarsh School", "Saltmarsh School meals", "Sloop Music", "Whelk Streaming", "Wrasse Video Calls",
}

// family puts Maren's logins that are the family's into a book, which she and Idris share.
func family(ctx context.Context, maren, idris *app.Vault) error {
	book, err := maren.Books.Make(ctx, "Family")
	if err != nil {
		return err
	}
	logins, err := maren.Book.Logins()
	if err != nil {
		return err
	}
	var ids []string
	for _, it := range logins {
		if slices.Contains(familys, it.Title) {
			ids = append(ids, it.ID)
		}
	}
	_, err1 := maren.Acts.MoveTo(ctx, book, ids...)
	p, err2 := known(ctx, maren, IdrisEmail, household.Checked)
	if err := errors.Join(err1, err2, maren.Books.Turn(ctx, records.AllBooks)); err != nil {
		return err
	}
	set, err := maren.Sharing.ShareBook(ctx, book, p.ID, share.Change)
	if err != nil {
		return err
	}
	err = until(ctx, func() (bool, error) {
		of, err := idris.Sharing.Of(set)
		if errors.Is(err, sharing.ErrNoSet) {
			return false, nil
		}
		return of.Waits, err
	})
	if err != nil {
		return err
	}
	if err := idris.Sharing.Take(ctx, set); err != nil {
		return err
	}
	err = until(ctx, func() (bool, error) {
		list, err := idris.Books.List()
		return len(list) == 2 && list[1].Items == len(ids), err
	})
	return errors.Join(err, inStep(ctx, idris))
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

// until waits until something is so.
func until(ctx context.Context, is func() (bool, error)) error {
	for {
		if ok, err := is(); ok || err != nil {
			return err
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(10 * time.Millisecond):
		}
	}
}

// keepOthers writes down what isn't a login, and what a few logins have besides.
func keepOthers(ctx context.Context, v *app.Vault) error {
	for _, o := range others {
		c := vault.Changes{vault.FieldTitle: o.title, vault.FieldFolder: o.folder, vault.FieldNotes: o.notes}
		maps.Copy(c, o.fields)
		if err := v.Items.SaveAs(ctx, records.NewID(), o.kind, c); err != nil {
			return err
		}
	}
	logins, err := v.Book.Logins()
	if err != nil {
		return err
	}
	for _, it := range logins {
		if key, ok := setups[it.Title]; ok {
			if err := v.Items.Save(ctx, it.ID, vault.Changes{vault.FieldSetup: key}); err != nil {
				return err
			}
		}
	}
	return nil
}

func person(name, email, password, cloud, device string) app.NewVault {
	return app.NewVault{
		Name:       name,
		Email:      email,
		Password:   secret.New(password),
		Repeat:     secret.New(password),
		Cloud:      cloud,
		DeviceName: device,
	}
}

// inStep waits until a vault has nothing left to send.
func inStep(ctx context.Context, v *app.Vault) error {
	return until(ctx, func() (bool, error) {
		s := v.Sync.Status()
		if s.State == syncing.Fault || s.State == syncing.Ended {
			return false, fmt.Errorf("the cloud: %s", s.Detail)
		}
		return s.Waiting == 0 && s.State == syncing.InStep, nil
	})
}

// typedBack is what is typed back from a sheet.
func typedBack(s app.Sheet) app.TypedSheet {
	return app.TypedSheet{CarriedGroup: 1, Carried: s.Carried[0], RecoveryGroup: 1, Recovery: s.Recovery[0]}
}
