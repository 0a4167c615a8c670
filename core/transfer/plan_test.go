package transfer

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"testing"
	"unicode"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"redlocket/core/secret"
	"redlocket/core/vault"
)

var (
	now   = vault.Stamp{At: 1790000000000, By: "desk"}
	later = vault.Stamp{At: 1790000100000, By: "desk"}
)

// ids makes ids like those of the vault.
func ids(n *int) func() string {
	return func() string {
		*n++
		return fmt.Sprintf("00000000-0000-7000-8000-%012d", *n)
	}
}

// newPlan plans without an end to its patience.
func newPlan(entries []vault.Entry, sources []Source, o Options) *Plan {
	p, err := NewPlan(context.Background(), entries, sources, o)
	if err != nil {
		panic(err) // only an ended context does that
	}
	return p
}

func read(t require.TestingT, name, text string) Source {
	table, err := ReadTable(context.Background(), []byte(text))
	require.NoError(t, err)
	columns := Guess(table)
	rows, broken, _ := FromTable(context.Background(), table, columns, 0)
	return Source{Name: name, Table: &table, Column: columns, Rows: rows, Broken: broken}
}

// bring imports sources into a vault and returns it.
func bring(t require.TestingT, entries []vault.Entry, by vault.Stamp, sources ...Source) []vault.Entry {
	n := 900000 + len(entries)*1000
	d, err := newPlan(entries, sources, Options{By: by}).Apply(context.Background(), Writer{By: by, NewID: ids(&n)})
	require.NoError(t, err)
	return put(entries, d.Entries)
}

func put(entries, list []vault.Entry) []vault.Entry {
	out := slices.Clone(entries)
	for _, e := range list {
		if i := slices.IndexFunc(out, func(o vault.Entry) bool { return o.ID == e.ID }); i >= 0 {
			out[i] = e
		} else {
			out = append(out, e)
		}
	}
	return out
}

// shown writes a vault's items down as text, without ids, moments and files' names: for
// comparing two.
func shown(entries []vault.Entry) []string {
	var out []string
	for _, e := range entries {
		if !e.IsItem() {
			continue
		}
		it := vault.View(e)
		if it.Archived && it.Username == "" {
			continue // it is a login with a user name now
		}
		var past []string
		for _, p := range e.Past {
			if p.Field == vault.FieldPassword && !slices.Contains(past, p.Value.Reveal()) &&
				p.Value != e.Fields[vault.FieldPassword].Value {
				past = append(past, p.Value.Reveal())
			}
		}
		slices.Sort(past)
		owns := []string{}
		for _, o := range e.CustomFields() {
			owns = append(owns, o.Label+"="+o.Value.Reveal())
		}
		slices.Sort(owns)
		out = append(
			out,
			fmt.Sprintf(
				"%s|%s|%s|%s|%v|%s|%s|%v|%v|%v|was %v|archived %v",
				it.Type,
				it.Title,
				it.Username,
				e.Text(vault.FieldPassword),
				it.Addresses,
				it.Notes,
				it.Folder,
				it.Tags,
				e.Text(vault.FieldSetup),
				owns,
				past,
				it.Archived,
			),
		)
	}
	slices.Sort(out)
	return out
}

func login(t testing.TB, id, title, url, user, password string, at int64) vault.Entry {
	t.Helper()
	e, err := vault.New(id, vault.TypeLogin, vault.Stamp{At: at, By: "desk"}, vault.Changes{
		vault.FieldTitle: title, vault.FieldUsername: user, vault.FieldPassword: secret.New(password),
		vault.FieldAddresses: []vault.Address{{URL: url}}})
	require.NoError(t, err)
	return e
}

func group(t testing.TB, p *Plan, title string) Step {
	t.Helper()
	i := slices.IndexFunc(p.Steps, func(s Step) bool { return s.Title == title })
	require.GreaterOrEqual(t, i, 0, "%s in %+v", title, p.Steps)
	return p.Steps[i]
}

func TestThePlan(t *testing.T) {
	have := []vault.Entry{
		login(
			t,
			"1",
			"Gullwing Credit Union",
			"https://gullwing.example/sign-in",
			"maren@cormorant.example",
			"vq7R",
			1700000000000,
		),
		login(t, "2", "Ferrylink", "https://ferrylink.example/", "mtolliver", "Tolliver85", 1700000000000),
		login(t, "3", "Pantry & Pier", "https://pantryandpier.example/", "", "Tolliver85", 1700000000000),
		login(t, "4", "Kelp & Crown", "https://kelpandcrown.example/", "m", "beans", 1700000000000),
	}
	a := read(t, "desk.csv", "name,url,username,password,note\n"+
		"gullwing.example,https://cards.gullwing.example/in,MAREN@cormorant.example,vq7R,\n"+ // more: another address
		"ferrylink.example,https://ferrylink.example/,mtolliver,Tolliver85,\n"+ // known
		// the user name
		"pantryandpier.example,https://www.pantryandpier.example/,maren@cormorant.example,Tolliver85,\n"+
		"lanternfish.example,https://lanternfish.example/,wren,Cuttle!,Films\n"+ // new
		"brackish.example,https://brackish.example/,mtolliver,longwave,\n"+ // twins
		",,someone,,\n") // broken
	b := read(t, "laptop.csv", "url,username,password,timePasswordChanged\n"+
		"https://brackish.example,mtolliver,longwave,1690000000000\n"+
		"https://kelpandcrown.example,m,BEANS,1714550400000\n"+ // newer than the vault's
		"https://kelpandcrown.example,m,sprouts,1500000000000\n"+
		"https://jettycafe.example,m,one,\nhttps://jettycafe.example,m,two,\n")
	p := newPlan(have, []Source{a, b}, Options{By: now})
	want := map[string]Group{
		"Gullwing Credit Union": GroupMore,
		"Ferrylink":             GroupKnown,
		"Pantry & Pier":         GroupMore,
		"Lanternfish":           GroupNew,
		"Brackish":              GroupTwin,
		"Kelp & Crown":          GroupDiffer,
		"Jettycafe":             GroupDiffer,
	}
	for title, g := range want {
		assert.Equal(t, g, group(t, p, title).Group, title)
	}
	assert.Len(t, p.Steps, len(want))
	require.Len(t, p.Broken, 1)
	assert.Equal(t, RowError{Fault: FaultNowhere}, p.Broken[0].Why)
	assert.Equal(t, 7, p.Broken[0].Line)
	works := Gain{Type: vault.TypeLogin, Field: vault.FieldAddresses}
	user := Gain{Type: vault.TypeLogin, Field: vault.FieldUsername}
	assert.Equal(t, []Gain{works}, group(t, p, "Gullwing Credit Union").Adds)
	assert.Equal(t, []Gain{works, user}, group(t, p, "Pantry & Pier").Adds)
	assert.Equal(t, DecideNewer, group(t, p, "Kelp & Crown").Decision)
	assert.Equal(t, DecideBoth, group(t, p, "Jettycafe").Decision)
	assert.Equal(t, Count{Steps: 2, Rows: 4, In: 2, Undecided: 1}, p.Count(GroupDiffer))

	got := bring(t, have, now, a, b)
	e := got[3]
	assert.Equal(t, "BEANS", e.Text(vault.FieldPassword), "the newer one")
	assert.Empty(t, e.Conflicts(), "that was decided")
	assert.True(t, hasPassword(e, "beans") && hasPassword(e, "sprouts"), "nothing is lost")
	assert.Equal(t, "maren@cormorant.example", got[2].Text(vault.FieldUsername))
	assert.Equal(t, "maren@cormorant.example", got[0].Text(vault.FieldUsername), "as its user wrote it")
	assert.Equal(
		t,
		[]string{"desk.csv", "laptop.csv"},
		got[slices.IndexFunc(got,
			func(e vault.Entry) bool { return e.Text(vault.FieldTitle) == "Brackish" })].SourceFiles(),
	)
	jetty := got[slices.IndexFunc(got, func(e vault.Entry) bool { return e.Text(vault.FieldTitle) == "Jettycafe" })]
	assert.Len(t, jetty.Conflicts(), 1, "undecided until it was tried")
	again := newPlan(got, []Source{a, b}, Options{By: later})
	assert.Equal(t, 10, again.Count(GroupKnown).Rows)
}

// A login that is kept for one host alone takes the rows of that host, and no others.
func TestHostsApart(t *testing.T) {
	have := []vault.Entry{
		login(t, "1", "Library", "https://library.uni.example/", "m", "one", 1700000000000),
		login(t, "2", "Mail", "https://mail.uni.example/", "m", "two", 1700000000000),
	}
	var err error
	have[0], err = have[0].With(
		vault.Stamp{At: 1700000001000, By: "desk"},
		vault.Changes{
			vault.FieldAddresses: []vault.Address{{URL: "https://library.uni.example/", Match: vault.MatchHost}},
		},
	)
	require.NoError(t, err)
	p := newPlan(
		have,
		[]Source{
			read(
				t,
				"f.csv",
				"url,username,password\nhttps://library.uni.example/in,m,one\nhttps://mail.uni.example/,m,two\nhttps://www.uni.example/,m,two\n",
			),
		},
		Options{By: now},
	)
	assert.Equal(t, "1", group(t, p, "Library").Existing)
	assert.Len(t, group(t, p, "Library").Rows, 1)
	assert.Len(t, group(t, p, "Mail").Rows, 2)
	assert.Len(t, p.Steps, 2)
}

func TestDecisions(t *testing.T) {
	have := []vault.Entry{login(t, "1", "Ferrylink", "https://ferrylink.example/", "m", "old", 1700000000000)}
	src := read(t, "f.csv", "url,username,password\nferrylink.example,m,one\nferrylink.example,m,two\n")
	for name, c := range map[string]struct {
		d       Decision
		pick    int
		current []string // of each login
		rivals  int
	}{
		"both":  {DecideBoth, 0, []string{"old"}, 2},
		"vault": {DecideThis, 0, []string{"old"}, 0},
		"file":  {DecideThis, 2, []string{"two"}, 0},
		"apart": {DecideApart, 0, []string{"old", "one", "two"}, 0},
		"skip":  {DecideSkip, 0, []string{"old"}, 0},
	} {
		p := newPlan(have, []Source{src}, Options{By: now})
		require.True(t, p.DecideOne(0, c.d, c.pick), name)
		assert.False(t, p.DecideOne(0, DecideNewer, 0), "nobody knows which is newer")
		assert.False(t, p.DecideOne(0, DecideThis, 3), "there is no such one")
		n := 0
		d, err := p.Apply(context.Background(), Writer{By: now, NewID: ids(&n)})
		require.NoError(t, err)
		got := put(have, d.Entries)
		var current []string
		for _, e := range got {
			if e.IsItem() {
				current = append(current, e.Text(vault.FieldPassword))
			}
		}
		slices.Sort(current)
		assert.Equal(t, c.current, current, name)
		assert.Len(t, got[0].Conflicts(), c.rivals, name)
		if c.d != DecideSkip && c.d != DecideApart {
			assert.True(t, hasPassword(got[0], "one") && hasPassword(got[0], "two") && hasPassword(got[0], "old"), name)
		}
		if c.d != DecideSkip {
			again := newPlan(got, []Source{src}, Options{By: later})
			assert.Equal(t, 2, again.Count(GroupKnown).Rows, name)
		}
	}
}

func TestUndo(t *testing.T) {
	have := []vault.Entry{
		login(t, "1", "Ferrylink", "https://ferrylink.example/", "m", "old", 1700000000000),
		login(t, "2", "Kelp & Crown", "https://kelpandcrown.example/", "m", "beans", 1700000000000),
		login(t, "3", "Put away", "https://putaway.example/", "m", "p", 1700000000000),
	}
	have[2], _ = have[2].Archive(vault.Stamp{At: 1700000001000, By: "desk"})
	src := read(
		t,
		"f.csv",
		"url,username,password,notes\nferrylink.example,m,one,ticket\nhttps://new.example/,m,p,\nhttps://edited.example/,m,p,\nhttps://kelpandcrown.example/in,m,beans,\nhttps://putaway.example/,m,p,found again\n",
	)
	got := bring(t, have, now, src)
	assert.Len(t, got, 6)
	assert.True(t, got[2].Archived(), "what was put away stays so")
	imports := Imports(got)
	require.Len(t, imports, 1)
	assert.Equal(t, Import{ID: imports[0].ID, Names: "f.csv", At: now.At, By: "desk", Made: 2, Changed: 3}, imports[0])
	i := slices.IndexFunc(got, func(e vault.Entry) bool { return e.Text(vault.FieldTitle) == "Edited" })
	var err error
	got[i], err = got[i].With(later, vault.Changes{vault.FieldNotes: "mine"})
	require.NoError(t, err)
	got[1], err = got[1].With(
		later,
		vault.Changes{vault.FieldAddresses: []vault.Address{{URL: "https://kelpandcrown.example/mine"}}},
	)
	require.NoError(t, err)
	byID := map[string]vault.Entry{}
	for _, e := range got {
		byID[e.ID] = e
	}
	end := vault.Stamp{At: later.At + 1000, By: "laptop"}
	u, err := Undo(imports[0].ID, byID, end)
	require.NoError(t, err)
	assert.Equal(t, []string{"Edited", "Kelp & Crown"}, u.Kept)
	assert.Equal(t, 1, u.Gone)
	after := put(got, u.Entries)
	assert.Equal(t, "old", after[0].Text(vault.FieldPassword))
	assert.Empty(t, after[0].Conflicts(), "and nothing is undecided")
	assert.Empty(t, after[0].Text(vault.FieldNotes))
	assert.Equal(t, "https://kelpandcrown.example/mine", vault.View(after[1]).Addresses[0].URL)
	assert.True(t, after[2].Archived())
	assert.Equal(t, "mine", after[i].Text(vault.FieldNotes))
	for _, e := range after {
		byID[e.ID] = e
	}
	_, err = Undo(imports[0].ID, byID, end)
	assert.ErrorIs(t, err, ErrNoImport)
	assert.Equal(t, end.At, Imports(after)[0].Undone)
	redo := bring(t, after, vault.Stamp{At: end.At + 1, By: "desk"}, src)
	assert.Equal(t, "ticket", redo[0].Text(vault.FieldNotes), "brought in again")
}

// anyFile draws a file of a few sites, so that its rows meet others.
func anyFile(t *rapid.T, name string) Source {
	cell := func(what string, list ...string) string { return rapid.SampledFrom(list).Draw(t, what) }
	var b strings.Builder
	_ = WriteRecord(
		&b,
		',',
		[]string{
			"name",
			"url",
			"username",
			"password",
			"note",
			"tags",
			"folder",
			"otp",
			"timePasswordChanged",
			"Shelf",
		},
	)
	for range rapid.IntRange(1, 6).Draw(t, "rows of "+name) {
		user, password := cell("user", "", "maren", "Maren", "wren"), cell("password", "", "p", "q", "r")
		if user == "wren" && password != "" {
			password += "w" // which of two accounts with one password a row without user name is, nobody can know
		}
		_ = WriteRecord(&b, ',', []string{
			cell(
				"title",
				"",
				"",
				"Gull",
				"Tern & Co",
				"gull.example",
			), cell("url", "https://gull.example/", "https://www.gull.example/in", "tern.example",
				"https://tern.example/a b", "", "android://x@com.gull.app/"),
			user, password, cell("note", "", "one", "two", "one\n\ntwo"),
			cell(
				"tags",
				"",
				"a",
				"b,a",
			), cell("folder", "", "Bank", "Shops"), cell("otp", "", "", "GEZDGNBVGY3TQOJQGEZDGNBVGY3TQOJQ"),
			cell("time", "", "", "1690000000000", "1714550400000", "1714550400"), cell("shelf", "", "3", "4"),
		})
	}
	return read(t, name, b.String())
}

// TestNothingDependsOnTheOrder brings in two files in both orders, together, and again.
func TestNothingDependsOnTheOrder(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		a, b := anyFile(t, "a.csv"), anyFile(t, "b.csv")
		var have []vault.Entry
		if rapid.Bool().Draw(t, "a vault with something in it") {
			have = bring(t, nil, vault.Stamp{At: now.At - 1000, By: "desk"}, anyFile(t, "before.csv"))
		}
		keys := map[string]bool{} // each step has one of its own, and no two are of one item
		for _, st := range newPlan(have, []Source{a, b}, Options{By: now}).Steps {
			if keys[st.Key] || st.Existing != "" && keys[st.Existing] ||
				strings.ContainsFunc(st.Key, unicode.IsControl) {
				t.Fatalf("%q is there twice, or can't be sent", st.Key)
			}
			keys[st.Key], keys[st.Existing] = true, true
		}
		ab := bring(t, bring(t, have, now, a), later, b)
		ba := bring(t, bring(t, have, now, b), later, a)
		both := bring(t, have, now, b, a)
		if got, want := shown(ba), shown(ab); !slices.Equal(got, want) {
			t.Fatalf(
				"one after the other:\n%s\nthe other way round:\n%s",
				strings.Join(want, "\n"),
				strings.Join(got, "\n"),
			)
		}
		if got, want := shown(both), shown(ab); !slices.Equal(got, want) {
			t.Fatalf("one after the other:\n%s\ntogether:\n%s", strings.Join(want, "\n"), strings.Join(got, "\n"))
		}
		again := bring(t, both, later, a)
		if got, want := shown(again), shown(both); !slices.Equal(got, want) {
			t.Fatalf("once:\n%s\ntwice:\n%s", strings.Join(want, "\n"), strings.Join(got, "\n"))
		}
		for _, src := range []Source{a, b} { // no password is lost
			for _, r := range src.Rows {
				p := r.Entry.Text(vault.FieldPassword)
				if p != "" &&
					!slices.ContainsFunc(both, func(e vault.Entry) bool { return e.IsItem() && hasPassword(e, p) }) {
					t.Fatalf("%q of line %d is nowhere", p, r.Line)
				}
			}
		}
	})
}

// TestUndoneIsAsBefore takes back what was just imported.
func TestUndoneIsAsBefore(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		have := bring(t, nil, vault.Stamp{At: now.At - 1000, By: "desk"}, anyFile(t, "before.csv"))
		got := bring(t, have, now, anyFile(t, "a.csv"))
		byID := map[string]vault.Entry{}
		for _, e := range got {
			byID[e.ID] = e
		}
		imports := Imports(got)
		if len(imports) < 2 {
			return // it brought nothing new
		}
		u, err := Undo(imports[0].ID, byID, later)
		if err != nil || len(u.Kept) > 0 {
			t.Fatal(err, u.Kept)
		}
		current := func(list []vault.Entry) (out []string) {
			for _, line := range shown(list) {
				head, _, _ := strings.Cut(line, "|was ")
				out = append(out, head)
			}
			return out
		}
		if got, want := current(put(got, u.Entries)), current(have); !slices.Equal(got, want) {
			t.Fatalf("before:\n%s\nafter:\n%s", strings.Join(want, "\n"), strings.Join(got, "\n"))
		}
	})
}
