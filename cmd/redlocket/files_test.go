package main

import (
	"bytes"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"runtime/debug"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"redlocket/app"
	"redlocket/core/secret"
)

const (
	masterPassword   = "oar lamp tide winkle"
	backupPassphrase = "winkles under the pier"
)

// program builds the program once and runs it with lines of input.
// buildTags are those that this test was built with: the program stretches passwords alike.
func buildTags() string {
	if info, ok := debug.ReadBuildInfo(); ok {
		for _, s := range info.Settings {
			if s.Key == "-tags" {
				return s.Value
			}
		}
	}
	return ""
}

func program(t *testing.T) func(want int, input []string, args ...string) string {
	t.Helper()
	bin := filepath.Join(t.TempDir(), "redlocket.exe")
	out, err := exec.Command("go", "build", "-tags", buildTags(), "-o", bin, ".").CombinedOutput()
	require.NoError(t, err, string(out))
	return func(want int, input []string, args ...string) string {
		t.Helper()
		cmd := exec.Command(bin, args...)
		cmd.Stdin = strings.NewReader(strings.Join(input, "\n") + "\n")
		out, _ := cmd.CombinedOutput() // the exit code tells
		assert.Equal(t, want, cmd.ProcessState.ExitCode(), "%v: %s", args, out)
		return string(out)
	}
}

func TestFilesByCommandLine(t *testing.T) {
	if testing.Short() {
		t.Skip("long: run without -short")
	}
	run := program(t)
	dir := t.TempDir()
	at := func(name string) string { return filepath.Join(dir, name) }
	require.NoError(
		t,
		os.WriteFile(
			at("a.csv"),
			[]byte("url,username,password\nhttps://gull.example,m,p-1\nhttps://tern.example,m,p-2\n,x,\n"),
			0o600,
		),
	)
	require.NoError(
		t,
		os.WriteFile(at("empty.json"), []byte(`{"format":"redlocket items","version":1,"items":[]}`), 0o600),
	)

	// There is no vault yet: one is made from a backup, which is made of another.
	out := run(exitTrouble, []string{masterPassword}, "import", at("a.csv"), "--data", at("one"))
	assert.Contains(t, out, "there is no such vault")
	makeVault(t, at("one"))
	out = run(exitRows, []string{masterPassword}, "import", at("a.csv"), "--data", at("one"), "--dry-run")
	assert.Contains(t, out, "2 rows, 2 logins: new")
	assert.Contains(t, out, "a.csv, line 4: it has neither an address nor a name")
	assert.NotContains(t, out, "imported")
	out = run(exitRows, []string{masterPassword}, "import", at("a.csv"), "--data", at("one"))
	assert.Contains(t, out, "imported: 2 new, 0 changed")
	run(exitPassword, []string{"not it"}, "import", at("a.csv"), "--data", at("one"))
	run(exitTrouble, []string{masterPassword}, "import", at("nothing.csv"), "--data", at("one"))

	out = run(
		0,
		[]string{masterPassword, backupPassphrase, backupPassphrase},
		"backup",
		at("b.age"),
		"--data",
		at("one"),
	)
	assert.Contains(t, out, "written and read back: 2 items")
	run(
		exitTrouble,
		[]string{masterPassword, backupPassphrase, backupPassphrase},
		"backup",
		at("b.age"),
		"--data",
		at("one"),
	)
	run(exitPassword, []string{masterPassword, backupPassphrase, "another"}, "backup", at("c.age"), "--data", at("one"))
	assert.NoFileExists(t, at("c.age"))

	run(
		exitPassword,
		[]string{"not the passphrase"},
		"restore",
		at("b.age"),
		"--data",
		at("two"),
		"--email",
		"wren@cormorant.example",
	)
	out = run(
		0,
		[]string{backupPassphrase, masterPassword, masterPassword},
		"restore",
		at("b.age"),
		"--data",
		at("two"),
		"--email",
		"wren@cormorant.example",
	)
	assert.Contains(t, out, "restored: 2 items, 0 files, into the vault of wren@cormorant.example")
	run(0, []string{masterPassword}, "export", at("out.csv"), "--format", "csv", "--data", at("two"))
	b, err := os.ReadFile(at("out.csv"))
	require.NoError(t, err)
	assert.Contains(t, string(b), "Gull,https://gull.example/,m,p-1")
	run(exitTrouble, []string{masterPassword}, "export", at("out.xml"), "--format", "xml", "--data", at("two"))
	assert.NoFileExists(t, at("out.xml"))
	run(
		0,
		[]string{masterPassword},
		"export",
		at("gull.csv"),
		"--format",
		"csv",
		"--find",
		"gull kind=login",
		"--data",
		at("two"),
	)
	b, err = os.ReadFile(at("gull.csv"))
	require.NoError(t, err)
	assert.Contains(t, string(b), "p-1")
	assert.NotContains(t, string(b), "p-2", "only what was found")
	for _, bad := range []string{"puffin", "colour=red"} {
		run(exitTrouble, []string{masterPassword}, "export", at("none.csv"), "--find", bad, "--data", at("two"))
		assert.NoFileExists(t, at("none.csv"))
	}

	release, err := holdFolder(at("two"))
	require.NoError(t, err)
	out = run(exitInUse, []string{masterPassword}, "export", at("again.json"), "--data", at("two"))
	assert.Contains(t, out, "running on this data already")
	release()
	run(0, []string{masterPassword}, "export", at("again.json"), "--data", at("two"))
}

// makeVault makes a vault in an empty data folder.
func makeVault(t *testing.T, dir string) {
	t.Helper()
	var o fileOptions
	o.device.dir = dir
	d, release, err := o.hold(t.Context())
	require.NoError(t, err)
	defer release()
	_, err = d.device.Create(
		t.Context(),
		app.NewVault{
			Email:    "maren@cormorant.example",
			Password: secret.New(masterPassword),
			Repeat:   secret.New(masterPassword),
		},
	)
	require.NoError(t, err)
	require.NoError(t, d.device.Close())
}

func TestWriteNewLeavesNothingHalf(t *testing.T) {
	name := filepath.Join(t.TempDir(), "x")
	require.Error(t, writeNew(name, func(w io.Writer) error {
		_, _ = w.Write(bytes.Repeat([]byte("x"), 10000))
		return os.ErrClosed
	}))
	assert.NoFileExists(t, name)
}
