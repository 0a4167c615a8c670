package tidy

import (
	"context"
	"fmt"
	"os"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"redlocket/core/secret"
	"redlocket/core/vault"
)

// kept is a login of the tests.
type kept struct{ title, address, user, password, note, app string }

func entries(t testing.TB, list ...kept) (out []vault.Entry) {
	for i, k := range list {
		d := vault.Draft{Title: k.title, Username: k.user, Password: secret.New(k.password), Notes: k.note}
		if k.address != "" {
			d.Addresses = []vault.Address{{URL: k.address}}
		}
		c := d.Changes()
		if k.app != "" {
			c[vault.FieldApp] = k.app
		}
		e, err := vault.New(fmt.Sprintf("%03d", i), vault.TypeLogin, vault.Stamp{At: int64(1000 + i), By: "t"}, c)
		require.NoError(t, err)
		out = append(out, e)
	}
	return out
}

const ferry = "https://ferrylink.example/sign-in"

// readPairs reads testdata/pairs.tsv.
func readPairs(t *testing.T, each func(name string, want Sureness, a, b kept)) {
	text, err := os.ReadFile("testdata/pairs.tsv")
	require.NoError(t, err)
	for line := range strings.Lines(string(text)) {
		f := strings.Split(strings.TrimSuffix(line, "\n"), "\t")
		if strings.HasPrefix(line, "#") {
			continue
		}
		require.Len(t, f, 4, line)
		each(f[0], Sureness(strings.Trim(f[1], "-")), keptOf(t, f[2]), keptOf(t, f[3]))
	}
}

// keptOf reads a login's values: address=…;user=….
func keptOf(t *testing.T, text string) (k kept) {
	for value := range strings.SplitSeq(text, ";") {
		name, v, ok := strings.Cut(value, "=")
		require.True(t, ok, text)
		switch name {
		case "title":
			k.title = v
		case "address":
			k.address = v
		case "user":
			k.user = v
		case "password":
			k.password = v
		case "note":
			k.note = v
		case "app":
			k.app = v
		default:
			t.Fatal("there is no value " + name)
		}
	}
	return k
}

// TestPairs has two rows each, and what is to be proposed of them, in whatever order they stand.
func TestPairs(t *testing.T) {
	readPairs(t, func(name string, want Sureness, a, b kept) {
		t.Run(name, func(t *testing.T) {
			list := entries(t, a, b)
			for range 2 {
				got, err := Find(t.Context(), list, Options{})
				require.NoError(t, err)
				if want == "" {
					assert.Empty(t, got)
				} else if assert.Len(t, got, 1) {
					assert.Equal(t, want, got[0].Sure, "%+v", got[0])
					assert.NotEmpty(t, got[0].Reasons)
				}
				list[0], list[1] = list[1], list[0]
			}
		})
	})
}

// TestWhatSurvives: of each value the better one, and the password that is newer.
func TestWhatSurvives(t *testing.T) {
	list := entries(t,
		kept{title: "ferrylink.example", address: "http://ferrylink.example/", user: "MAREN.T ", password: "kelpferry1"},
		kept{
			title: "Ferrylink", address: "https://www.ferrylink.example/sign-in", user: "maren.t@cormorant.example",
			password: "kelpferry2",
		},
		kept{title: "ferrylink.example", address: "https://ferrylink.example/", user: "m*****t", password: "kelpferry1"},
	)
	got, err := Find(t.Context(), list, Options{})
	require.NoError(t, err)
	require.Len(t, got, 1)
	assert.Len(t, got[0].IDs, 3)
	assert.Equal(t, Survives{
		Title: "Ferrylink", Username: "maren.t@cormorant.example", Address: "https://www.ferrylink.example/sign-in",
		PasswordOf: "002",
	}, got[0].Survives)
	got, err = Find(t.Context(), list, Options{Used: func(id string) int64 {
		if id == "001" {
			return 9
		}
		return 0
	}})
	require.NoError(t, err)
	assert.Equal(t, "001", got[0].Survives.PasswordOf, "the one that was used")
}

// TestHouseholdIsLearned: two names that sign in side by side at one site are two accounts at the next.
func TestHouseholdIsLearned(t *testing.T) {
	list := entries(t,
		kept{address: ferry, user: "mtolliver@cormorant.example", password: "same-1"},
		kept{address: ferry, user: "maren.tolliver@cormorant.example", password: "same-1"},
	)
	got, _ := Find(t.Context(), list, Options{})
	assert.Len(t, got, 1, "they could be one person's")
	list = append(list, entries(t, kept{}, kept{},
		kept{address: "https://whelk.example", user: "mtolliver@cormorant.example", password: "quay-lamp"},
		kept{address: "https://whelk.example", user: "maren.tolliver@cormorant.example", password: "tide-table"},
	)[2:]...)
	got, _ = Find(t.Context(), list, Options{})
	assert.Empty(t, got, "they aren't")
}

// TestApartForGood: what the user said stays.
// A password that a program made says more than user names that sign in side by side elsewhere.
func TestAMadePasswordSaysMore(t *testing.T) {
	const now, before = "jonas@lindqvist.example", "jonas.lq@lindqvist.example"
	list := []kept{
		{address: "https://one.example", user: now, password: "otter-wharf-1"},
		{address: "https://one.example", user: before, password: "gannet-jetty-2"},
		{address: "https://two.example", user: now, password: "bVKif7j22k9iJZbX"},
		{address: "https://two.example", user: before, password: "bVKif7j22k9iJZbX"},
	}
	assert.True(t, together(t, list, 2, 3))
	list[2].password, list[3].password = "kelp-ferry-3", "kelp-ferry-3"
	assert.False(t, together(t, list, 2, 3))
}

// Two names of one site that had one password are no two accounts because one of them got another one since.
func TestAChangedPasswordParts(t *testing.T) {
	const now, before = "jonas@lindqvist.example", "jonas.lq@lindqvist.example"
	list := []kept{
		{address: "https://one.example", user: now, password: "otter-wharf-1"},
		{address: "https://one.example", user: before, password: "otter-wharf-1"},
		{address: "https://one.example", user: now, password: "gannet-jetty-2"},
		{address: "https://two.example", user: now, password: "kelp-ferry-3"},
		{address: "https://two.example", user: before, password: "kelp-ferry-3"},
	}
	assert.True(t, together(t, list, 0, 1))
	assert.True(t, together(t, list, 3, 4))
	list[1].password = "plover-sound-4"
	assert.False(t, together(t, list, 3, 4))
}

// A name that two domains have says less, where their password is used elsewhere too.
func TestDomainsOfOneName(t *testing.T) {
	list := entries(t,
		kept{address: "https://ferrylink.example", user: "maren", password: "quay-lamp"},
		kept{address: "https://ferrylink-shop.de", user: "maren", password: "quay-lamp"},
		kept{address: "https://whelk.example", user: "maren", password: "quay-lamp"},
	)
	got, err := Find(t.Context(), list, Options{})
	require.NoError(t, err)
	require.Len(t, got, 1)
	assert.Equal(t, Question, got[0].Sure)
	assert.Equal(t, []string{"000", "001"}, got[0].IDs)
}

func TestMade(t *testing.T) {
	for _, p := range []string{"bVKif7j22k9iJZbX", "PDHSiZebMWLG", "cwemAqVghxtQW", "k[/9~#UdM@eGL*~-qwa["} {
		assert.True(t, made(p), p)
	}
	for _, p := range []string{
		"Sommer2019!", "correct-horse-battery", "MacBookProUSBStick", "KompassLampe877", "hafenblick3", "QuietHarborBoat",
	} {
		assert.False(t, made(p), p)
	}
}

// Two people of a site have one password: a row without a name may be either's, whatever program it belongs to.
func TestARowWithoutANameBesideTwoPeople(t *testing.T) {
	list := []kept{
		{title: "Ginsterpost", address: "https://ginsterpost.example", user: "astrid", password: "hafenblick3"},
		{title: "Ginsterpost", address: "https://ginsterpost.example", user: "mia", password: "hafenblick3"},
		{title: "Ginsterpost", address: "https://ginsterpost.example", password: "hafenblick3"},
		{title: "Ginsterpost", app: "com.ginsterpost.app", user: "mia", password: "hafenblick3"},
	}
	assert.True(t, together(t, list, 1, 3))
	assert.False(t, together(t, list, 2, 3))
	assert.False(t, together(t, list, 2, 1))
}

// together reports whether two logins of a list are proposed to be one.
func together(t *testing.T, list []kept, a, b int) bool {
	found, err := Find(context.Background(), entries(t, list...), Options{})
	require.NoError(t, err)
	return slices.ContainsFunc(found, func(p Proposal) bool {
		has := func(i int) bool { return slices.Contains(p.IDs, fmt.Sprintf("%03d", i)) }
		return has(a) && has(b)
	})
}

func TestApartForGood(t *testing.T) {
	one := kept{address: ferry, user: "maren", password: "a1"}
	list := entries(t, one, one, one)
	got, err := Find(t.Context(), list, Options{Apart: func(a, b string) bool { return a == "000" || b == "000" }})
	require.NoError(t, err)
	require.Len(t, got, 1)
	assert.Equal(t, []string{"001", "002"}, got[0].IDs)
}

func TestFindStops(t *testing.T) {
	ctx, stop := context.WithCancel(t.Context())
	stop()
	_, err := Find(ctx, entries(t, kept{address: ferry, user: "maren"}), Options{})
	assert.ErrorIs(t, err, context.Canceled)
}
