package main

import (
	"bytes"
	"encoding/json"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestWeakSpotsOfFiles(t *testing.T) {
	file := filepath.Join(t.TempDir(), "browser.csv")
	require.NoError(t, os.WriteFile(file, []byte("name,url,username,password,note\n"+
		"Cormorant Mail,https://mail.cormorant.example/,maren@cormorant.example,kelp-Ferry-9,\n"+
		"Gullwing,https://gullwing.example/,maren@cormorant.example,x9!Lq0zVtR,\n"+
		"Brackish,http://brackish.example/,mt,kelp-Ferry-9,\n"+
		"Dunlin,https://dunlin.example/,mt,Kelp-ferry-10,\n"), 0o600))
	var out bytes.Buffer
	cmd := weakSpotsCommand()
	cmd.SetOut(&out)
	cmd.SetArgs([]string{file})
	require.NoError(t, cmd.Execute())
	assert.NotContains(t, out.String(), "kelp-Ferry-9", "no password is written")
	var got weakJSON
	require.NoError(t, json.Unmarshal(out.Bytes(), &got))
	faults := map[int][]string{}
	for _, s := range got.Spots {
		for _, f := range s.Faults {
			faults[s.Row.Line] = append(faults[s.Row.Line], f.Fault)
			assert.NotEmpty(t, f.Says)
		}
	}
	assert.Contains(t, faults[2], "reused")
	assert.Contains(t, faults[2], "similar")
	assert.Contains(t, faults[4], "http")
	assert.Contains(t, faults[5], "similar")
	assert.NotContains(t, faults[3], "reused")
	falls := map[int][]int{}
	for _, r := range got.Reach {
		for _, f := range r.Falls {
			falls[r.Row.Line] = append(falls[r.Row.Line], f.Row.Line)
		}
	}
	assert.ElementsMatch(t, []int{3, 4, 5}, falls[2])
	assert.ElementsMatch(t, []int{2, 3, 5}, falls[4])
	assert.Empty(t, falls[3])
	require.Len(t, got.Mailboxes, 1)
	assert.Equal(t, 3, got.Mailboxes[0].Resets[0].Line)
}
