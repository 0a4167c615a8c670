package web

import (
	"cmp"
	"context"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"time"

	"redlocket/app"
	"redlocket/app/records"
	"redlocket/core/find"
	"redlocket/core/vault"
	"redlocket/wording"
)

// dayPages are the day's page: what stands on the right leaf while nothing is chosen.
type dayPages struct{ *Server }

func (s dayPages) routes(r routes) { r.get("/day", s.waits) }

// dayData is what of it is known from the book alone: the page doesn't wait for the records to be opened.
type dayData struct {
	Pinned, Used  []vault.Item
	Folders, Tags []dayCount
}

// dayCount is a way to browse: a folder or a tag.
type dayCount struct {
	Name, Query string
	N           int
}

// How many of each are shown.
const (
	dayPinned = 8
	dayUsed   = 6
	dayCounts = 14
)

// day reads the day's page out of the book.
func day(x *find.Index, used map[string]int64) (d dayData) {
	var recent []*vault.Item
	x.Items(func(it *vault.Item) {
		if it.Pinned && len(d.Pinned) < dayPinned {
			d.Pinned = append(d.Pinned, *it)
		}
		if used[it.ID] > 0 && !it.Pinned {
			recent = append(recent, it)
		}
	})
	slices.SortStableFunc(recent, func(a, b *vault.Item) int { return cmp.Compare(used[b.ID], used[a.ID]) })
	for _, it := range recent[:min(len(recent), dayUsed)] {
		d.Used = append(d.Used, *it)
	}
	names := x.Names()
	d.Folders, d.Tags = counts("folder", names.Folders), counts("tag", names.Tags)
	return d
}

// counts lists the names that most items have, in order of name.
func counts(by string, n map[string]int) (out []dayCount) {
	for _, name := range most(n, dayCounts) {
		out = append(out, dayCount{name, find.Narrow{By: by, Value: name}.String(), n[name]})
	}
	return out
}

// waiting is something that waits for its user.
type waiting struct {
	Words, Why, Link string
	Sheet            bool // it is opened on the sheet
}

// dayWaits is all that waits.
type dayWaits struct {
	List  []waiting
	Offer bool // of opening by the computer's own authenticator, where it has one
}

// waits answers with what waits, once the records are there.
func (s dayPages) waits(w http.ResponseWriter, r *http.Request) error {
	list, err := s.waiting(r)
	if err != nil {
		return err
	}
	d := dayWaits{list, vaultOf(r).Authenticators.Offers() && s.cfg.Origin != ""}
	s.render(w, r, http.StatusOK, "day-waits", s.view(r, "", "", d))
	return nil
}

func (s dayPages) waiting(r *http.Request) (out []waiting, err error) {
	v, ctx := vaultOf(r), r.Context()
	count := func(state string) int {
		b, err := v.Book.Find(find.Parse("="+state), 1)
		if err != nil {
			return 0 // locked meanwhile; the next step says so
		}
		return b.Items
	}
	search := func(state string) string { return "/logins?q=" + url.QueryEscape("="+state) }
	if n := count("undecided"); n > 0 {
		words := plural(n, "login has", "logins have") + " several passwords"
		out = append(out, waiting{words, "nobody has said yet which one the site takes", search("undecided"), false})
	}
	if n := count("staged"); n > 0 {
		words := plural(n, "new password waits", "new passwords wait") + " for the site"
		out = append(out, waiting{words, "sign in with it, and it is confirmed", search("staged"), false})
	}
	people, err := v.Household.People()
	if err != nil {
		return nil, err
	}
	out = append(out, ofPeople(people)...)
	shared, err := v.Sharing.List()
	if err != nil {
		return nil, err
	}
	out = append(out, ofShared(shared)...)
	l, err := v.Tidying.List(ctx)
	if err != nil {
		return nil, err
	}
	if n := l.Waiting(); n > 0 {
		sure := ""
		if len(l.Sure) > 0 {
			sure = fmt.Sprintf("%d of them sure", len(l.Sure))
		}
		out = append(out, waiting{plural(n, "login may be", "logins may be") + " there twice", sure, "/tidy", false})
	}
	look, err := v.Auditing.Look(ctx)
	if err != nil {
		return nil, err
	}
	if len(look.Spots) > 0 {
		e, err := v.Items.Entry(look.Spots[0].ID)
		if err != nil {
			return nil, err
		}
		out = append(out, waiting{
			plural(len(look.Spots), "weak spot", "weak spots") + " among the passwords",
			"the one that matters most: " + e.Text(vault.FieldTitle), "/weak", false,
		})
	}
	watch, err := v.Auditing.Watching(ctx)
	if err != nil {
		return nil, err
	}
	turned, _, err := s.turned(r, watch, func(string) string { return "" })
	if err != nil {
		return nil, err
	}
	if n := len(turned); n > 0 {
		out = append(out, waiting{
			plural(n, "thing of yours", "things of yours") + " turned up in a leak", turned[0].Leak.Name,
			"/weak#turned", false,
		})
	}
	soon, err := v.Book.ExpiringSoon()
	if err != nil {
		return nil, err
	}
	for _, e := range soon {
		words := e.Item.Title + " has expired"
		if !e.Over {
			words = e.Item.Title + " expires in " + plural(e.Days, "day", "days")
		}
		out = append(out, waiting{words, "", "/items/" + e.Item.ID + "?in=" + string(sectionOfItem(e.Item)), true})
	}
	if n := len(v.Replica.Damaged()); n > 0 {
		words := plural(n, "record is", "records are") + " damaged on this computer"
		out = append(out, waiting{words, "everything else is here", "/devices", false})
	}
	if wanted := v.Account.Wanted(ctx); wanted.Cloud != "" {
		words := "The cloud wants an invitation"
		if wanted.Code {
			words = "The cloud waits for the code that it mailed"
		}
		out = append(out, waiting{words, "until then the vault is on this computer only", "/account", false})
	}
	out = append(out, ofHands(v)...)
	out = append(out, s.newMaster(r)...)
	out = append(out, s.left(r)...)
	if v.Sheets.Replaces(ctx) {
		out = append(out, waiting{
			"A new recovery sheet waits to be printed", "the old one’s carried half is void", "/sheet", false,
		})
	}
	if v.Sheets.Due(ctx) {
		out = append(out, waiting{
			"Is your recovery sheet still there?", "it wasn’t looked at for a year: two groups of it tell",
			"/sheet/try", false,
		})
	}
	out = append(out, s.absent(r)...)
	if b := s.backupWaits(r); b.Words != "" {
		out = append(out, b)
	}
	return out, nil
}

// newMaster says that a new master password waits. The cloud is asked, and not waited for long.
func (s dayPages) newMaster(r *http.Request) []waiting {
	ctx, cancel := context.WithTimeout(r.Context(), cloudTime)
	defer cancel()
	n, err := vaultOf(r).ForgottenMaster.State(ctx)
	if err != nil || !n.Waits {
		return nil
	}
	return []waiting{{
		"A new master password waits", "asked for on " + n.Device + ": if it wasn’t you, stop it", "/master", false,
	}}
}

// sheetMissing reports whether the vault's first recovery sheet was never put on paper.
func sheetMissing(ctx context.Context, v *app.Vault) bool {
	return v.Sheets.Waits(ctx) && !v.Sheets.Replaces(ctx)
}

// SheetMissing reports the same of the open vault.
func (v View) SheetMissing() bool { return sheetMissing(context.Background(), v.Vault) }

// left is what of setting the vault up was left for later, and is still to be done.
func (s dayPages) left(r *http.Request) (out []waiting) {
	v, ctx := vaultOf(r), r.Context()
	f := v.Account.FirstDay(ctx)
	if sheetMissing(ctx, v) {
		out = append(out, waiting{
			"The recovery sheet is missing", "without it a forgotten master password is the end of the vault",
			"/sheet", false,
		})
	}
	if f.HasLeft(app.FirstBrowser) && s.cfg.Browsers != nil {
		if list, err := s.cfg.Browsers.Connected(ctx, v); err == nil && len(list) == 0 {
			const words = "No browser is connected yet"
			out = append(out, waiting{words, "then logins are filled in where you sign in", "/first/browser", false})
		}
	}
	if f.HasLeft(app.FirstFiles) {
		if past, err := v.Imports.History(); err == nil && len(past) == 0 {
			const words = "Bring the passwords that your browsers keep"
			out = append(out, waiting{words, "a file from each, all at once", "/import", false})
		}
	}
	return out
}

// cloudTime is how long the day's page waits for the cloud.
const cloudTime = 700 * time.Millisecond

// absentAfter is how long a device wasn't there when it is asked about.
const absentAfter = 90 * 24 * time.Hour

// absent are the devices that weren't there for long: they may be lost. The cloud is asked, and not waited for long.
func (s dayPages) absent(r *http.Request) (out []waiting) {
	ctx, cancel := context.WithTimeout(r.Context(), cloudTime)
	defer cancel()
	list, away, err := vaultOf(r).Account.Devices(ctx)
	if err != nil || away {
		return nil // the page Devices says what is wrong with the cloud
	}
	for _, d := range list {
		if d.This || !d.SignedIn || time.Since(d.Seen) < absentAfter {
			continue
		}
		out = append(out, waiting{
			d.Name + " wasn’t there for " + plural(int(time.Since(d.Seen).Hours()/24), "day", "days"),
			"if it is lost, shut it out", "/devices", false,
		})
	}
	return out
}

// sectionOfItem is the section that an item is in.
func sectionOfItem(it vault.Item) vault.Section {
	if k, ok := vault.KindOf(it.Type); ok {
		return k.Section
	}
	return vault.SectionLogins
}

// backupWaits says if there is no backup, or an old one.
func (s dayPages) backupWaits(r *http.Request) waiting {
	v := vaultOf(r)
	x, err := v.Book.Index()
	const fewItems = 20 // that are soon written down again
	if err != nil || x.Len("") < fewItems {
		return waiting{}
	}
	p, ok := v.Backups.Plan(r.Context())
	switch {
	case !ok:
		return waiting{"There is no backup yet", "an encrypted file, on another disk", "/import#backup", false}
	case p.Failed != "":
		return waiting{"The last backup failed", p.Failed, "/import#backup", false}
	case len(v.Backups.Lacks(r.Context())) > 0:
		n := plural(len(v.Backups.Lacks(r.Context())), "file", "files")
		return waiting{"The last backup lacks " + n, "no device could be asked for them", "/import#backup", false}
	case time.Since(time.UnixMilli(p.Last)) > 2*p.Every:
		return waiting{"The last backup is old", "of " + ago(time.UnixMilli(p.Last)), "/import#backup", false}
	}
	return waiting{}
}

// filterGroup is filters of one kind, each with how many items it leaves.
type filterGroup struct {
	Title string
	List  []filterPress
}

type filterPress struct {
	press
	N int
}

// filterNames is how many folders or tags are offered: those that most items have.
const filterNames = 24

// filterGroups are the filters that leave something, by kind.
func filterGroups(book *records.Book, x *find.Index, q find.Query) (out []filterGroup, err error) {
	add := func(title string, list []filterPress) {
		if len(list) > 0 {
			out = append(out, filterGroup{title, list})
		}
	}
	counted := func(list *[]filterPress, n find.Narrow, words string) {
		b, failed := book.FindIn(x, find.Parse(n.String()), 1)
		if failed != nil {
			err = failed
		} else if b.Items > 0 {
			*list = append(*list, filterPress{press{words, q.Turn(n), q.Has(n)}, b.Items})
		}
	}
	var states, kinds []filterPress
	for _, st := range find.States() {
		counted(&states, find.Narrow{Value: st}, wording.State(st))
	}
	for _, k := range vault.Kinds() {
		counted(&kinds, find.Narrow{By: "kind", Value: string(k.Type)}, wording.Kind(k.Type).Many)
	}
	add("What is so", states)
	if len(kinds) > 1 {
		add("Kind", kinds)
	}
	for _, by := range []struct {
		title, name string
		n           map[string]int
	}{{"Folder", "folder", x.Names().Folders}, {"Tag", "tag", x.Names().Tags}} {
		var list []filterPress
		for _, name := range most(by.n, filterNames) {
			n := find.Narrow{By: by.name, Value: name}
			list = append(list, filterPress{press{name, q.Turn(n), q.Has(n)}, by.n[name]})
		}
		add(by.title, list)
	}
	return out, err
}
