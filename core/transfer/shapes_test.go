package transfer

import (
	"context"
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"redlocket/core/vault"
)

// brought is what a file's rows bring: user name, password and the first address of each.
func brought(t *testing.T, name, text string) (out []string, s Source) {
	t.Helper()
	s, err := Read(context.Background(), name, []byte(text), nil)
	require.NoError(t, err, name)
	for _, r := range s.Rows {
		host := ""
		if a := vault.View(r.Entry).Addresses; len(a) > 0 {
			host = a[0].URL
		}
		user, password := r.Entry.Text(vault.FieldUsername), r.Entry.Secret(vault.FieldPassword).Reveal()
		out = append(out, strings.Join([]string{user, password, host}, " · "))
	}
	return out, s
}

// Files as they may come, made up from the promise that every common list of logins can be read.
func TestTablesInOtherClothes(t *testing.T) {
	for _, c := range []struct{ name, text string }{
		{"blocks", "My logins\n\nTitle: A\nUsername: u\nPassword: p: 1\nURL: https://a.example/\nNotes: one\n  two\n\n" +
			"Title: B\nUsername: v\nPassword: p2\nURL: https://b.example/\n"},
		{"ruled", "Site = https://a.example/\nLogin = u\nPassword = p: 1\n--------\n" +
			"Site = https://b.example/\nLogin = v\nPassword = p2\n--------\n"},
		{"run together", "URL: https://a.example/\nUser: u\nPass: p: 1\nURL: https://b.example/\nUser: v\nPass: p2\n"},
		{"listed", "- Website: https://a.example/\n- E-mail: u\n- Passwort: p: 1\n\n- Website: https://b.example/\n" +
			"- E-mail: v\n- Passwort: p2\n"},
		{"objects", `[ {"site":"https://a.example/","login":"u","pass":"p: 1"},
			{"site":"https://b.example/","login":"v","pass":"p2","pin":42} ]`},
		{"nested", `{"made":"2026","folders":[],"items":[
			{"name":"A","login":{"username":"u","password":"p: 1","uris":[{"uri":"https://a.example/"}]}},
			{"name":"B","login":{"username":"v","password":"p2","uris":[{"uri":"https://b.example/"}],"totp":null},
			 "fields":[{"name":"Pin","value":"42"}]}]}`},
		{"single quotes", "'name','url','username','password'\n'A','https://a.example/','u','p: 1'\n" +
			"'B','https://b.example/','v','p2'\n"},
		{"single quotes, all sorts", "'name'; 'url'; 'username'; 'password'; 'note'\n" +
			"'A'; 'https://a.example/'; 'u'; 'p: 1'; 'says \"hi\"; it''s'\n'B'; 'https://b.example/'; 'v'; 'p2'; ''\n"},
		{"drawn", "| Site | User | Password |\n|---|---|---|\n| https://a.example/ | u | p: 1 |\n" +
			"| https://b.example/ | v   | p2   |\n"},
		{"bars", "Site | User | Password\nhttps://a.example/ | u | p: 1\nhttps://b.example/ | v | p2\n"},
		{"a zero in a note", "url,username,password,notes\nhttps://a.example/,u,p: 1,\"n\x00n" + strings.Repeat("x", 2000) +
			"\"\nhttps://b.example/,v,p2,\n"},
		{"by e-mail", "url,username,password,e-mail\nhttps://a.example/,u,p: 1,x@x.example\nhttps://b.example/,,p2,v\n" +
			"https://c.example/,,p3,m@x.example\n"},
	} {
		t.Run(c.name, func(t *testing.T) {
			got, s := brought(t, c.name, c.text)
			if c.name == "by e-mail" {
				assert.Equal(t, []string{
					"u · p: 1 · https://a.example/", " · p2 · https://b.example/", "m@x.example · p3 · https://c.example/",
				}, got)
				return
			}
			assert.Equal(t, []string{"u · p: 1 · https://a.example/", "v · p2 · https://b.example/"}, got)
			assert.Empty(t, s.Broken)
		})
	}
}

func TestWhatStandsBesideInObjects(t *testing.T) {
	_, s := brought(t, "x.json", `{"items":[{"name":"B","login":{"username":"v","password":"p2"},
		"fields":[{"name":"Pin","value":"42"},{"name":"Maiden name","value":"Quill"}]}, 7, {}]}`)
	require.Len(t, s.Rows, 1)
	owns, err := json.Marshal(s.Rows[0].Entry.Fields)
	require.NoError(t, err)
	assert.Contains(t, string(owns), "own:in-fields pin")
	assert.Contains(t, string(owns), "own:in-fields maiden name")
	require.Len(t, s.Broken, 1, "a value that is no object is named")
	assert.Equal(t, 2, s.Broken[0].Line)
	require.Len(t, s.Table.Skipped, 1)
	assert.Equal(t, 3, s.Table.Skipped[0].Line)
}

// Nothing of a labelled text vanishes: what follows a value goes on with it.
func TestLabelledNotesGoOn(t *testing.T) {
	_, s := brought(t, "x.txt", "Title: A\nPassword: p\nNotes: first\nDoor code: 42\n  and more\n\nlast\n\nTitle: B\nPassword: q\n")
	require.Len(t, s.Rows, 2)
	assert.Equal(t, "first\nDoor code: 42\nand more\nlast", s.Rows[0].Entry.Text(vault.FieldNotes))
	assert.Equal(t, 1, s.Rows[0].Line)
	assert.Equal(t, 7, s.Rows[0].End)
}

func TestALineWithoutALabelIsNoPartOfAPassword(t *testing.T) {
	got, s := brought(t, "x.txt", "Site: https://a.example/\nUser: u\nPassword: p\nask Idris\n\nSite: https://b.example/\nPassword: q\n")
	assert.Equal(t, []string{"u · p · https://a.example/", " · q · https://b.example/"}, got)
	assert.Equal(t, "ask Idris", s.Rows[0].Entry.Text(vault.FieldNotes))
}

func TestOrdinaryTextsStayWhatTheyAre(t *testing.T) {
	for name, text := range map[string]string{
		"one list of two":    `{"a":[{"site":"a.example","login":"u","pass":"p"}],"b":[{"x":1}]}`,
		"an object beside":   `{"a":[{"site":"a.example","login":"u","pass":"p"}],"b":{"x":1}}`,
		"no logins":          `[{"x":1},{"y":2}]`,
		"cut":                `[{"site":"a.example","login":"u","pass":"p"},{"si`,
		"two after another":  `[{"site":"a.example","login":"u","pass":"p"}] [{"site":"b.example"}]`,
		"nested without end": strings.Repeat("[{\"a\":", 5000),
	} {
		_, err := Read(context.Background(), name, []byte(text), nil)
		assert.Error(t, err, name)
		assert.NotContains(t, err.Error(), "Go value", name)
	}
	_, s := brought(t, "x.csv", "name,url,username,password\nPassword: the game,https://a.example,u,it's\n'tis,https://b.example,v,'q'\n")
	assert.Equal(t, ',', s.Table.Delimiter)
	assert.Equal(t, "'q'", s.Rows[1].Entry.Secret(vault.FieldPassword).Reveal())
}

func FuzzShapes(f *testing.F) {
	list, err := filepath.Glob("testdata/exports/*")
	require.NoError(f, err)
	for _, name := range list {
		b, err := os.ReadFile(name)
		require.NoError(f, err)
		f.Add(b)
	}
	f.Add([]byte("Title: A\nPassword: p\n\nTitle: B\nPassword: q"))
	f.Add([]byte(`[{"site":"a.example","pass":"p","x":[{"name":"n","value":"v"}]}]`))
	f.Add([]byte("| 'a' | b |\n|---|---|\n"))
	f.Fuzz(func(t *testing.T, b []byte) {
		if table, ok, err := readObjects(b); ok && err == nil {
			for _, r := range table.Rows {
				require.LessOrEqual(t, len(r.Cells), len(table.Header))
			}
		}
		text := string(b)
		lines := splitLines(text)
		table, ok := readLabels(text, lines)
		if !ok {
			return
		}
		seen := make([]bool, len(lines))
		for _, r := range table.Rows {
			for i := r.Line; i <= r.End; i++ {
				seen[i-1] = true
			}
		}
		for _, s := range table.Skipped {
			seen[s.Line-1] = true
		}
		for i, l := range lines {
			s := text[l.from:l.to]
			require.True(t, seen[i] || strings.TrimSpace(s) == "" || isRule(s), "line %d is nowhere", i+1)
		}
	})
}
