package audit

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"redlocket/core/secret"
	"redlocket/core/vault"
)

var now = time.Date(2026, 11, 27, 0, 0, 0, 0, time.UTC).UnixMilli()

// kept is a login as one writes it in a test: title, user name, password, address, and "note:", "code", "field:label=value".
func kept(t testing.TB, id, title, user, password, url string, more ...string) vault.Entry {
	c := vault.Changes{vault.FieldTitle: title, vault.FieldUsername: user, vault.FieldPassword: secret.New(password)}
	if url != "" {
		c[vault.FieldAddresses] = []vault.Address{{URL: url}}
	}
	for i, m := range more {
		key, value, _ := strings.Cut(m, ":")
		switch key {
		case "note":
			c[vault.FieldNotes] = value
		case "code":
			c[vault.FieldSetup] = "otpauth://totp/x?secret=JBSWY3DPEHPK3PXP"
		case "by":
			c[FieldResetBy] = value
		case "field":
			label, v, _ := strings.Cut(value, "=")
			o := vault.CustomField{ID: fmt.Sprint("f", i), Label: label, Form: vault.FormText, Value: secret.New(v)}
			f, r := o.Register()
			c[f] = r
		}
	}
	e, err := vault.New(id, vault.TypeLogin, vault.Stamp{At: now - 1000, By: "desk"}, c)
	require.NoError(t, err)
	return e
}

func survey(t testing.TB, list ...vault.Entry) *Survey {
	s, err := New(t.Context(), list, Options{Now: now})
	require.NoError(t, err)
	return s
}

const maren = "maren.tolliver@cormorant.example"

// town is a small vault: a mailbox, what it resets, and what shares passwords.
func town(t testing.TB) *Survey {
	return survey(t,
		kept(t, "mail", "Cormorant Mail", maren, "kelp-ferry", "https://mail.cormorant.example/"),
		kept(t, "bank", "Gullwing", maren, "x9!Lq0zVtR", "https://gullwing.example/"),
		kept(t, "bank2", "Gullwing card", "77120", "x9!Lq0zVtR", "https://card.example/"),
		kept(t, "shop", "Pantry", "Maren.Tolliver+shop@cormorant.example", "tide-table", "https://pantry.example/"),
		kept(t, "radio", "Brackish Radio", "mtolliver", "Kelp-Ferry7", "https://brackish.example/"),
		kept(t, "safe", "Harbour Safe", maren, "zz-unlike-any", "https://safe.example/", "code"),
		kept(t, "coded", "Mailed codes", maren, "qq-unlike-any", "https://coded.example/", "field:Two-factor=by e-mail"),
		kept(t, "work", "Quay", "m.t", "own-one-9", "https://quay.example/", "note:Recovery: "+maren),
		kept(t, "aunt", "Aunt", "aunt", "own-two-9", "https://aunt.example/", "note:ask "+maren+" for it"),
		kept(t, "not", "Not by mail", maren, "own-three-9", "https://not.example/", "by:none"),
		kept(t, "dunlin", "Dunlin", "d", "tide-table", "https://dunlin.example/"),
	)
}

func said(list []Fallen) (out []string) {
	for _, f := range list {
		out = append(out, fmt.Sprintf("%d %s<%s %s", f.Step, f.ID, f.From, f.Why))
	}
	return out
}

func TestReach(t *testing.T) {
	s := town(t)
	r := s.Reach("radio")
	assert.Equal(t, []string{
		"1 mail<radio similar password",
		"2 bank<mail resets", "2 coded<mail resets", "2 shop<mail resets", "2 work<mail resets",
	}, said(r.Fell), "what was reset tells no old password: bank2 and dunlin don't fall")
	assert.Equal(t, []string{"2 safe<mail resets"}, said(r.Held))
	assert.Equal(t, []string{"1 mail<radio similar password", "2 bank<mail resets"}, said(r.Chain("bank")))
	assert.Nil(t, r.Chain("aunt"))

	assert.Equal(t, []string{"1 bank2<bank same password"}, said(s.Reach("bank").Fell))
	assert.Equal(t, []string{"1 shop<dunlin same password"}, said(s.Reach("dunlin").Fell))
	assert.Empty(t, s.Reach("aunt").Fell)
	assert.Empty(t, s.Reach("nobody").Fell)
	assert.Equal(t, []Far{{"mail", 5}, {"radio", 5}}, s.Furthest(2))
	assert.ElementsMatch(t, []string{"bank", "shop", "safe", "coded", "work"}, s.Mailboxes()["mail"])
}

// A mailbox with a second factor of its own resets nothing for who has its password only; what shares it falls.
func TestAHeldMailbox(t *testing.T) {
	s := survey(t,
		kept(t, "mail", "Cormorant Mail", maren, "kelp-ferry", "https://mail.cormorant.example/", "code"),
		kept(t, "shop", "Pantry", maren, "tide", "https://pantry.example/"),
		kept(t, "radio", "Brackish", "m", "kelp-ferry", "https://brackish.example/"),
	)
	assert.Equal(t, []string{"1 radio<mail same password"}, said(s.Reach("mail").Fell))
	r := s.Reach("radio")
	assert.Empty(t, r.Fell)
	assert.Equal(t, []string{"1 mail<radio same password"}, said(r.Held), "the chain ends there")
}

// Two mailboxes that reset each other; a name that is the mailbox's own first part.
func TestMailboxesInARing(t *testing.T) {
	s := survey(t,
		kept(t, "a", "Post A", "maren", "one-of-a-kind", "https://a.example/"),
		kept(t, "b", "Post B", "maren@b.example", "two-of-a-kind", "https://b.example/", "field:Recovery e-mail=maren@a.example"),
		kept(t, "shop", "Shop", "maren@b.example", "three-of-it", "https://shop.example/"),
	)
	assert.Equal(t, []string{"1 b<a resets", "2 shop<b resets"}, said(s.Reach("a").Fell))
	assert.Equal(t, []string{"1 shop<b resets"}, said(s.Reach("b").Fell))
}

func TestSpots(t *testing.T) {
	old := kept(t, "old", "Forum", "m", "aged-One-9", "https://forum.example/")
	old.Fields[vault.FieldPassword] = vault.Register{
		Value: old.Fields[vault.FieldPassword].Value, Stamp: vault.Stamp{At: now - 6*365*24*3600*1000, By: "desk"},
	}
	s, err := New(t.Context(), []vault.Entry{
		old,
		kept(t, "bank", "Gullwing Bank", maren, "hunter-22", "https://gullwing.example/"),
		kept(t, "shop", "Shop", maren, "hunter-22", "https://shop.example/"),
		kept(t, "near", "Radio forum", maren, "Hunter-22!", "https://radio.example/"),
		kept(t, "plain", "Tide", maren, "only-Here-1", "http://tide.example/"),
		kept(t, "both", "Both", maren, "only-Here-2b", "https://both.example/"),
		kept(t, "router", "Router", "admin", "only-Here-3c", "http://192.168.1.1/"),
		kept(t, "leak", "Leaky forum", maren, "known-leak-x", "https://leaky.example/"),
		kept(t, "none", "No password", maren, "", "http://none.example/"),
	}, Options{Now: now, Leaked: func(p secret.Text) (int64, bool) { return 5, p.Reveal() == "known-leak-x" }})
	require.NoError(t, err)
	got := map[string][]Fault{}
	list := s.Spots(s.Weak)
	for _, sp := range list {
		for _, f := range sp.Findings {
			got[sp.ID] = append(got[sp.ID], f.Fault)
		}
	}
	assert.Contains(t, got["old"], FaultOld)
	assert.Contains(t, got["bank"], FaultReused)
	assert.Contains(t, got["bank"], FaultSimilar)
	assert.Contains(t, got["near"], FaultSimilar)
	assert.NotContains(t, got["near"], FaultReused)
	assert.Contains(t, got["plain"], FaultClear)
	assert.Contains(t, got["leak"], FaultLeaked)
	for _, id := range []string{"router", "both", "none"} {
		assert.NotContains(t, got[id], FaultClear, id)
	}
	assert.Equal(t, "bank", list[0].ID, "what is lost counts before how easy it is")
	without := s.Spots(nil)
	for _, sp := range without {
		for _, f := range sp.Findings {
			assert.NotEqual(t, FaultWeak, f.Fault)
		}
	}
}

// The buckets find what comparing each with each finds.
func TestBucketsFindAllThatIsNear(t *testing.T) {
	bases := []string{"kelpferry", "Lantern-forty", "tidetable99", "whelkstall", "x7Kq!zR0pL", "Ropewalk"}
	made := []func(string) string{
		func(s string) string { return s }, strings.ToUpper, func(s string) string { return s + "2026" },
		func(s string) string { return "!" + s + "1" }, reversed,
		func(s string) string { return strings.NewReplacer("e", "3", "a", "@", "o", "0").Replace(s) },
		func(s string) string { return s + "ferrylink" }, func(s string) string { return s[:3] + s[4:] },
		func(s string) string { return s[:2] + "q" + s[2:] }, func(s string) string { return s[:4] + s[5:6] + s[4:5] + s[6:] },
		func(s string) string { return "Brackish-" + s + "7" },
	}
	var entries []vault.Entry
	for i, b := range bases {
		for j, m := range made {
			title := []string{"Ferrylink", "Brackish", "Dunlin"}[j%3]
			url := "https://" + strings.ToLower(title) + ".example/"
			entries = append(entries, kept(t, fmt.Sprintf("%d-%02d", i, j), title, "m", m(b), url))
		}
	}
	s := survey(t, entries...)
	found := map[string]bool{}
	for _, l := range s.logins {
		for _, n := range l.key.near {
			found[l.key.text.Reveal()+" "+n.key.text.Reveal()] = true
		}
	}
	missed := 0
	for _, a := range s.logins {
		for _, b := range s.logins {
			how := Near(a.key.text.Reveal(), b.key.text.Reveal(), slices.Concat(a.key.names(), b.key.names())...)
			if a.key != b.key && how != NotNear && !found[a.key.text.Reveal()+" "+b.key.text.Reveal()] {
				missed++
				t.Logf("%s and %s are near (%s)", a.key.text.Reveal(), b.key.text.Reveal(), how)
			}
		}
	}
	assert.Zero(t, missed)
}
