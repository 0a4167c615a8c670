package main

import (
	"context"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// user is somebody with an empty home, a systemd of their session and a browser, both played by scripts.
type user struct {
	t    *testing.T
	home string
	bin  string // the program, where nobody leaves it
	port string
}

// systemctl starts what a unit says, once; it doesn't end it, as if the session had gone.
const systemctl = `#!/bin/sh
echo "$@" >>"$HOME/systemctl.log"
case "$*" in
*"enable --now"*)
  kill -0 "$(cat "$HOME/unit.pid" 2>/dev/null)" 2>/dev/null && exit 0
  eval "$(sed -n 's/^ExecStart=//p' "$HOME/.config/systemd/user/redlocket.service") >>$HOME/program.log 2>&1 &"
  echo $! >"$HOME/unit.pid"
  ;;
esac
`

func newUser(t *testing.T) *user {
	if testing.Short() {
		t.Skip("builds the program")
	}
	home := t.TempDir()
	u := &user{t: t, home: home, bin: filepath.Join(home, "Downloads", "redlocket")}
	out, err := exec.Command("go", "build", "-tags", buildTags(), "-o", u.bin, ".").CombinedOutput()
	require.NoError(t, err, string(out))
	tools := filepath.Join(home, "tools")
	require.NoError(t, os.MkdirAll(filepath.Join(home, "run", "systemd"), 0o700))
	require.NoError(t, os.Mkdir(tools, 0o700))
	for name, text := range map[string]string{
		"systemctl": systemctl, "xdg-open": "#!/bin/sh\necho \"$@\" >>\"$HOME/opened.log\"\n",
	} {
		require.NoError(t, os.WriteFile(filepath.Join(tools, name), []byte(text), 0o700)) //nolint:gosec // it is run
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	u.port = strconv.Itoa(l.Addr().(*net.TCPAddr).Port)
	require.NoError(t, l.Close())
	return u
}

// run runs a program of the user's, and returns what it says.
func (u *user) run(program string, args ...string) (string, error) {
	ctx, cancel := context.WithTimeout(u.t.Context(), 30*time.Second)
	defer cancel()
	c := exec.CommandContext(ctx, program, args...)
	c.Env = []string{
		"HOME=" + u.home, "PATH=" + filepath.Join(u.home, "tools") + ":/usr/bin:/bin",
		"XDG_RUNTIME_DIR=" + filepath.Join(u.home, "run"),
	}
	out, err := c.CombinedOutput()
	return string(out), err
}

func (u *user) must(program string, args ...string) string {
	out, err := u.run(program, args...)
	require.NoError(u.t, err, out)
	return out
}

func (u *user) file(name string) string {
	b, err := os.ReadFile(filepath.Join(u.home, name))
	if err != nil {
		return ""
	}
	return string(b)
}

func TestInstalledAsAUserWould(t *testing.T) {
	u := newUser(t)
	assert.Contains(t, u.must(u.bin, "status", "--port", u.port), "Starts with your session: no")
	out := u.must(u.bin, "install", "--port", u.port)
	at := "http://redlocket.localhost:" + u.port
	assert.Contains(t, out, "It is at "+at)
	own := filepath.Join(u.home, ".local", "bin", "redlocket")
	require.NoError(t, os.Remove(u.bin), "what was downloaded isn't needed any more")

	status := u.must(own, "status", "--port", u.port)
	assert.Contains(t, status, "Starts with your session: yes")
	assert.Contains(t, status, "Runs: yes, at "+at)
	assert.Contains(t, status, "Data folder: "+filepath.Join(u.home, ".local", "share", "redlocket"))
	assert.Contains(t, u.must(own, "doctor", "--port", u.port), "Everything works")
	require.Eventually(t, func() bool { return strings.Contains(u.file("opened.log"), at) }, 5*time.Second, 50*time.Millisecond)

	require.NoError(t, os.Remove(filepath.Join(u.home, "opened.log")))
	out = u.must(own) // from the menu, with another port than it runs at
	assert.Contains(t, out, "running already, at "+at)
	require.Eventually(t, func() bool { return strings.Contains(u.file("opened.log"), at) }, 5*time.Second, 50*time.Millisecond)

	unit := filepath.Join(u.home, ".config", "systemd", "user", "redlocket.service")
	require.NoError(t, os.WriteFile(unit, []byte("[Unit]\n"), 0o600))
	assert.Contains(t, u.must(own, "status", "--port", u.port), "in part")
	u.must(own, "install", "--port", u.port, "--no-browser")

	assert.Contains(t, u.must(own, "uninstall", "--port", u.port), "Your vaults are still in")
	assert.NoFileExists(t, unit)
	assert.NoFileExists(t, filepath.Join(u.home, ".local", "share", "applications", "redlocket.desktop"))
	assert.DirExists(t, filepath.Join(u.home, ".local", "share", "redlocket"))
	_, err := net.DialTimeout("tcp", "127.0.0.1:"+u.port, time.Second)
	require.Error(t, err, "it doesn't run any more")
	assert.Contains(t, u.file("program.log"), "Red Locket is at "+at)
	assert.Contains(t, u.file("systemctl.log"), "--user disable --now redlocket.service")
}

func TestAnEarlierDataFolderIsMoved(t *testing.T) {
	dir := t.TempDir()
	from, to := filepath.Join(dir, "config", "redlocket"), filepath.Join(dir, "share", "redlocket")
	assert.Equal(t, to, moved(from, to), "there is none")
	require.NoError(t, os.MkdirAll(from, 0o700))
	require.NoError(t, os.WriteFile(filepath.Join(from, "one.vault"), []byte("kept"), 0o600))
	release, err := holdFolder(from)
	require.NoError(t, err)
	assert.Equal(t, from, moved(from, to), "an earlier version is running")
	release()
	assert.Equal(t, to, moved(from, to))
	b, err := os.ReadFile(filepath.Join(to, "one.vault"))
	require.NoError(t, err)
	assert.Equal(t, "kept", string(b))
	assert.NoDirExists(t, from)
	require.NoError(t, os.MkdirAll(from, 0o700))
	assert.Equal(t, to, moved(from, to), "what is there is never covered")
}
