package transfer

import (
	"context"
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"redlocket/core/vault"
)

// TestListsByHand has lists as people keep them in a text, each with the same two logins. They were written without
// looking at what reads them.
func TestListsByHand(t *testing.T) {
	const plain, addressed = "Ferrylink|maren|tide-14| Gullwing|m@x.example|gull:22|",
		"Ferrylink|maren|tide-14|https://ferrylink.example/ Gullwing|m@x.example|gull:22|https://gullwing.example/"
	for name, c := range map[string]struct{ text, want string }{
		"a line above": {
			"Ferrylink\nUser: maren\nPassword: tide-14\n\nGullwing\n" +
				"User: m@x.example\nPassword: gull:22\n",
			plain,
		},
		"run together": {
			"Ferrylink\nlogin: maren\npw: tide-14\nGullwing\n" +
				"login: m@x.example\npw: gull:22\n",
			plain,
		},
		"with a colon": {
			"Ferrylink:\n User: maren\n Password: tide-14\nGullwing:\n" +
				" User: m@x.example\n Password: gull:22\n",
			plain,
		},
		"headings": {
			"## Ferrylink\n\n- User: maren\n- Password: tide-14\n\n## Gullwing\n" +
				"\n- User: m@x.example\n- Password: gull:22\n",
			plain,
		},
		"numbered": {
			"1. Ferrylink\n   User: maren\n   Password: tide-14\n2. Gullwing\n" +
				"   User: m@x.example\n   Password: gull:22\n",
			plain,
		},
		"addresses": {
			"https://ferrylink.example\nusername: maren\npassword: tide-14\n\n" +
				"https://gullwing.example\nusername: m@x.example\npassword: gull:22\n",
			addressed,
		},
		"sections": {
			"[Ferrylink]\nurl=https://ferrylink.example\nuser=maren\npassword=tide-14\n\n[Gullwing]\n" +
				"url=https://gullwing.example\nuser=m@x.example\npassword=gull:22\n",
			addressed,
		},
		"quoted": {
			"- name: Ferrylink\n  url: https://ferrylink.example\n  username: maren\n  password: tide-14\n" +
				"- name: Gullwing\n  url: https://gullwing.example\n  username: m@x.example\n  password: \"gull:22\"\n",
			addressed,
		},
		"blocks": {
			"ferrylink.example\nmaren\ntide-14\n\n" +
				"gullwing.example\nm@x.example\ngull:22\n",
			addressed,
		},
		"dashes": {"Ferrylink - maren - tide-14\nGullwing - m@x.example - gull:22\n", plain},
		"dashes, named": {
			"Site - User - Password\nFerrylink - maren - tide-14\n" +
				"Gullwing - m@x.example - gull:22\n",
			plain,
		},
		"strokes": {"Ferrylink / maren / tide-14\n\nGullwing / m@x.example / gull:22\n", plain},
		"accounts": {
			`{"accounts":[{"site":"Ferrylink","link":"https://ferrylink.example","login":{"name":"maren","secret":"tide-14"}},` +
				`{"site":"Gullwing","link":"https://gullwing.example","login":{"name":"m@x.example","secret":"gull:22"}}]}`,
			addressed,
		},
	} {
		s, err := Read(context.Background(), "list.txt", []byte(c.text), nil)
		require.NoError(t, err, name)
		assert.Empty(t, s.Broken, name)
		got := ""
		for _, r := range s.Rows {
			it := vault.View(r.Entry)
			if got != "" {
				got += " "
			}
			got += it.Title + "|" + it.Username + "|" + r.Entry.Secret(vault.FieldPassword).Reveal() + "|"
			for _, a := range it.Addresses {
				got += a.URL
			}
			assert.Empty(t, it.Notes, name)
		}
		assert.Equal(t, c.want, got, name)
	}
}

// What only looks like such a list stays what it is: the words above a file, a note's second line, passwords with
// dashes or quotes in them.
func TestListsThatAreNone(t *testing.T) {
	secrets := func(text string) (out []string) {
		s, err := Read(context.Background(), "x.txt", []byte(text), nil)
		require.NoError(t, err)
		for _, r := range s.Rows {
			out = append(out, r.Entry.Secret(vault.FieldPassword).Reveal())
		}
		return out
	}
	const sites = "Site: https://a.example\nPassword: %s\n\nSite: https://b.example\nPassword: %s\n"
	for _, both := range [][]string{{"a - b - c", "d"}, {`"a`, `"b"`}, {`"a"b`, `c`}} {
		assert.Equal(t, both, secrets(fmt.Sprintf(sites, both[0], both[1])))
	}
	assert.Equal(t, []string{"a - b - c", "d - e - f"}, secrets(
		"name,url,username,password\nA,https://a.example,m,a - b - c\nB,https://b.example,m,d - e - f\n"))
	assert.Equal(t, []string{"p", "q"}, secrets("A - B - C,https://a.example,m,p\nD - E - F,https://b.example,m,q\n"))
	const headed = "My logins\nUser: maren\nPassword: p\nUser: idris\nPassword: q\n"
	s, err := Read(context.Background(), "x.txt", []byte(headed), nil)
	require.NoError(t, err)
	require.Len(t, s.Rows, 2, "the heading of a file is no login's")
	assert.Equal(t, "maren", s.Rows[0].Entry.Text(vault.FieldTitle))
}

// A title that only repeats the address and the user name is none.
func TestATitleMadeOfTheAddress(t *testing.T) {
	for title, want := range map[string]string{
		"ferrylink.example": "Ferrylink", "ferrylink.example (maren)": "Ferrylink", "www.ferrylink.example (maren)": "Ferrylink",
		"ferrylink.example (idris)": "ferrylink.example (idris)", "Ferries (maren)": "Ferries (maren)",
	} {
		s, err := Read(context.Background(), "x.csv",
			[]byte("Title,URL,Username,Password\n"+title+",https://ferrylink.example/in,maren,p\n"), nil)
		require.NoError(t, err)
		assert.Equal(t, want, s.Rows[0].Entry.Text(vault.FieldTitle))
	}
}
