package main

import (
	"bytes"
	"encoding/json"
	"errors"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestSuspectsOfFiles: rows of two files, of which one can't be used, are named by file and line.
func TestSuspectsOfFiles(t *testing.T) {
	dir := t.TempDir()
	write := func(name, text string) string {
		path := filepath.Join(dir, name)
		require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
		return path
	}
	a := write("a.csv", "name,url,username,password\n"+
		"Ferrylink,https://ferrylink.example/sign-in,maren.t@cormorant.example,tide-Table-1\n"+
		"Whelk,https://whelk.example,maren,tide-Table-1\n"+
		"Whelk,https://whelk.example,idris,tide-Table-1\n")
	b := write("b.csv", "url,username,password\nhttp://www.ferrylink.example/,maren.t,tide-Table-1\n")
	page := write("c.html", "<!doctype html><title>No table</title>")

	var out, said bytes.Buffer
	err := suspectsOfFiles(t.Context(), []string{a, page, b}, &out, &said)
	var e exit
	require.True(t, errors.As(err, &e))
	assert.Equal(t, exitRows, e.code)
	assert.Contains(t, said.String(), "not taken: c.html")
	assert.NotContains(t, out.String(), "tide-Table-1", "no password is written")

	var got suspectsJSON
	require.NoError(t, json.Unmarshal(out.Bytes(), &got))
	assert.Equal(t, []string{"a.csv", "c.html", "b.csv"}, got.Files)
	require.Len(t, got.Proposals, 1)
	p := got.Proposals[0]
	assert.Equal(t, "sure", p.Sure)
	require.Len(t, p.Rows, 2)
	assert.Equal(t, 0, *p.Rows[0].File)
	assert.Equal(t, 2, p.Rows[0].Line)
	assert.Equal(t, 2, *p.Rows[1].File)
	assert.Equal(t, 2, p.Rows[1].Line)
	assert.Equal(t, "maren.t@cormorant.example", p.Survives.Username)
	assert.Equal(t, "https://ferrylink.example/sign-in", p.Survives.Address)
	for _, r := range p.Reasons {
		assert.NotEmpty(t, r.Says)
	}
	assert.Error(t, suspectsOfFiles(t.Context(), []string{filepath.Join(dir, "nothing.csv")}, &out, &said))
}
