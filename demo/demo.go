// Package demo fills a cloud and four devices with the demo data.
package demo

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"redlocket/app"
	"redlocket/app/records"
	"redlocket/app/syncing"
	"redlocket/core/leaks"
	"redlocket/core/secret"
	"redlocket/core/vault"
	"redlocket/core/wire"
	"redlocket/practice"
)

// Devices are the demo's devices.
type Devices struct {
	Desk, Laptop, Idris *app.Device
	Rosa                *app.Device // that isn't at home: it is on while the vaults are made
}

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

// Fill makes everybody's vaults, unless they are there already. Practice
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
	sheet, err := desk.Sheets.Sheet(ctx)
	if err != nil {
		return err
	}
	if err := desk.Sheets.Check(ctx, typedBack(sheet)); err != nil {
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
	say("Idris's vault on his computer, Wren's on the laptop, and Rosa's, of the allotments")
	idris, _, err := made(ctx, d.Idris, person("Idris Tolliver", IdrisEmail, IdrisPassword, cloud, "workshop"), mailed,
		idriss)
	if err != nil {
		return err
	}
	wren, _, err := made(ctx, d.Laptop, person("Wren Tolliver", WrenEmail, WrenPassword, cloud, "laptop"), mailed,
		wrens)
	if err != nil {
		return err
	}
	rosa, _, err := made(ctx, d.Rosa, person("Rosa Quayle", RosaEmail, RosaPassword, cloud, "shed"), mailed, nil)
	if err != nil {
		return err
	}
	say("they compare six words, and share the family's book and the allotments'")
	if err := people(ctx, desk, idris, wren, rosa, sheet); err != nil {
		return err
	}
	if err := inStep(ctx, laptop); err != nil {
		return err
	}
	for _, v := range []*app.Vault{wren, rosa, desk, laptop, idris} { // Maren's is the laptop's last one
		v.Lock()
	}
	return nil
}

// made makes the vault of one of the others, with their logins in it, and their sheet checked.
func made(
	ctx context.Context, d *app.Device, who app.NewVault, mailed func(context.Context, string) (string, error),
	rows []row,
) (*app.Vault, app.Sheet, error) {
	v, err := d.Create(ctx, who)
	if err != nil {
		return nil, app.Sheet{}, fmt.Errorf("failed to make the vault of %s: %w", who.Name, err)
	}
	if err := proved(ctx, v, mailed); err != nil {
		return nil, app.Sheet{}, err
	}
	if err := v.Items.SaveAll(ctx, drafts(rows)); err != nil {
		return nil, app.Sheet{}, err
	}
	sheet, err := v.Sheets.Sheet(ctx)
	if err == nil {
		err = v.Sheets.Check(ctx, typedBack(sheet))
	}
	if err == nil {
		err = inStep(ctx, v)
	}
	return v, sheet, err
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
