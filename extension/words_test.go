package extension

import (
	"encoding/json"
	"flag"
	"io/fs"
	"os"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"redlocket/core/keys"
	"redlocket/core/version"
)

var write = flag.Bool("write", false, "write src/wordlist.js anew")

// The extension names keys by the same words as the app.
func TestWordsAreTheApps(t *testing.T) {
	list, err := json.Marshal(keys.WordList())
	require.NoError(t, err)
	want := "// The words by which keys are named: the EFF's large list. Written by go test ./extension -write\n" +
		"/** @type {string[]} */\nexport const WORDS = " + string(list) + ";\n"
	if *write {
		require.NoError(t, os.WriteFile("src/wordlist.js", []byte(want), 0o644))
	}
	got, err := os.ReadFile("src/wordlist.js")
	require.NoError(t, err)
	assert.Equal(t, want, string(got))
}

func TestPack(t *testing.T) {
	for _, browser := range []string{"chromium", "firefox"} {
		b, err := Pack(browser)
		require.NoError(t, err)
		assert.NotEmpty(t, b)
	}
	_, err := Pack("lynx")
	assert.Error(t, err)

	raw, err := fs.ReadFile(Files(), "manifest.json")
	require.NoError(t, err)
	firefox, err := manifest(raw, "firefox")
	require.NoError(t, err)
	var m struct {
		Background struct {
			Scripts []string `json:"scripts"`
			Worker  string   `json:"service_worker"`
		} `json:"background"`
	}
	require.NoError(t, json.Unmarshal(firefox, &m))
	assert.Empty(t, m.Background.Worker)
	for _, f := range m.Background.Scripts {
		_, err := fs.Stat(Files(), f)
		assert.NoError(t, err)
	}
}

// Program and extension are of one version.
func TestVersionIsThePrograms(t *testing.T) {
	b, err := fs.ReadFile(Files(), "manifest.json")
	require.NoError(t, err)
	var m struct{ Version string }
	require.NoError(t, json.Unmarshal(b, &m))
	assert.Equal(t, version.Number, m.Version)
}
