package install_test

import (
	"encoding/xml"
	"errors"
	"flag"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"redlocket/install"
)

var rewrite = flag.Bool("write", false, "write what each system gets to testdata")

// hosts have in their paths what quoting has to mind.
var hosts = map[string]install.Host{
	"linux":         {OS: "linux", Home: "/home/maren", Getenv: none, Systemd: true},
	"linux-session": {OS: "linux", Home: "/home/maren $x", Getenv: of(map[string]string{"XDG_CONFIG_HOME": "/etc/maren"})},
	"darwin":        {OS: "darwin", Home: "/Users/maren & wren", Getenv: none},
	"windows": {OS: "windows", Home: `C:\Users\Maren O'T`, Getenv: of(map[string]string{
		"APPDATA": `C:\Users\Maren O'T\AppData\Roaming`, "LOCALAPPDATA": `C:\Users\Maren O'T\AppData\Local`,
	})},
}

func none(string) string { return "" }

func of(m map[string]string) func(string) string { return func(name string) string { return m[name] } }

// What each system gets, to the letter: the files are read by people before they are by a system that isn't here.
func TestWhatEachSystemGets(t *testing.T) {
	for name, h := range hosts {
		p, err := install.New(h, "/tmp/go-build/redlocket", []string{"--data", `/srv/50% "$x"`})
		require.NoError(t, err)
		var b strings.Builder
		fmt.Fprintf(&b, "program %s, copied: %t\nvaults %s, before %q\n", p.Program, p.Copy, h.DataFolder(), h.FormerFolder())
		for _, f := range p.Files {
			text := string(f.Text)
			if strings.HasSuffix(f.Path, ".png") {
				text = "(a picture)\n"
			}
			fmt.Fprintf(&b, "\n== %s (%o)\n%s", f.Path, f.Mode, text)
		}
		for _, s := range p.Start {
			fmt.Fprintf(&b, "\nstart: %q, try: %t", s.Command, s.Try)
		}
		for _, s := range p.End {
			fmt.Fprintf(&b, "\nend: %q, try: %t", s.Command, s.Try)
		}
		file := filepath.Join("testdata", name+".txt")
		if *rewrite {
			require.NoError(t, os.WriteFile(file, []byte(b.String()), 0o600))
		}
		want, err := os.ReadFile(file)
		require.NoError(t, err)
		assert.Equal(t, string(want), b.String(), name)
		for _, f := range p.Files {
			if strings.HasSuffix(f.Path, ".plist") {
				wellFormed(t, f.Text)
			}
		}
	}
}

func wellFormed(t *testing.T, b []byte) {
	d := xml.NewDecoder(strings.NewReader(string(b)))
	for {
		_, err := d.Token()
		if errors.Is(err, io.EOF) {
			return
		}
		require.NoError(t, err)
	}
}

func TestAProgramThatStaysIsNotCopied(t *testing.T) {
	for _, at := range []string{"/usr/bin/redlocket", "/home/maren/.local/bin/redlocket"} {
		p, err := install.New(hosts["linux"], at, nil)
		require.NoError(t, err)
		assert.False(t, p.Copy, at)
	}
	_, err := install.New(install.Host{OS: "plan9", Getenv: none}, "/bin/redlocket", nil)
	assert.ErrorIs(t, err, install.ErrSystem)
}

func TestAllOfItCanBeTakenBack(t *testing.T) {
	home := t.TempDir()
	from := filepath.Join(t.TempDir(), "redlocket")
	require.NoError(t, os.WriteFile(from, []byte("#!/bin/sh\n"), 0o600))
	h := install.Host{OS: "linux", Home: home, Getenv: none, Systemd: true}
	p, err := install.New(h, from, nil)
	require.NoError(t, err)
	var ran []string
	run := func(c []string) error {
		ran = append(ran, strings.Join(c, " "))
		return nil
	}
	require.NoError(t, p.Do(from, run))
	require.NoError(t, p.Do(from, run), "a second time")
	assert.Empty(t, p.Missing())
	i, err := os.Stat(p.Program)
	require.NoError(t, err)
	assert.NotZero(t, i.Mode()&0o100, "it can be run")
	require.NoError(t, p.Undo(run))
	require.NoError(t, p.Undo(run), "a second time")
	assert.Empty(t, filesIn(t, home))
	assert.Len(t, p.Missing(), len(p.Files))
	assert.Contains(t, ran, "systemctl --user disable --now redlocket.service")

	bad := errors.New("no bus")
	err = p.Do(from, func(c []string) error {
		if c[2] == "enable" {
			return bad
		}
		return nil
	})
	require.ErrorIs(t, err, bad)
	assert.Empty(t, filesIn(t, home), "what failed leaves nothing")

	// One that is there already stays as it was, where a newer one can't be installed.
	require.NoError(t, p.Do(from, run))
	before := map[string][]byte{}
	for _, f := range filesIn(t, home) {
		before[f], err = os.ReadFile(f)
		require.NoError(t, err)
	}
	require.NoError(t, os.WriteFile(from, []byte("#!/bin/sh\necho newer\n"), 0o600))
	later, err := install.New(h, from, []string{"--port", "7000"})
	require.NoError(t, err)
	ran = nil
	err = later.Do(from, func(c []string) error {
		ran = append(ran, strings.Join(c, " "))
		if c[2] == "enable" {
			return bad
		}
		return nil
	})
	require.ErrorIs(t, err, bad)
	assert.Empty(t, p.Missing())
	after := filesIn(t, home)
	assert.Len(t, after, len(before))
	for _, f := range after {
		b, err := os.ReadFile(f)
		require.NoError(t, err)
		assert.Equal(t, string(before[f]), string(b), f)
	}
	assert.Equal(t, "systemctl --user enable --now redlocket.service", ran[len(ran)-1], "it is started again")
}

func filesIn(t *testing.T, dir string) (out []string) {
	require.NoError(t, filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
		if err == nil && !d.IsDir() {
			out = append(out, path)
		}
		return err
	}))
	return out
}
