package main

import (
	"archive/zip"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"redlocket/core/version"
)

const root = "../.."

func pack(t *testing.T) *dist {
	d := &dist{root: root, out: t.TempDir(), version: version.Number, built: "tested"}
	require.NoError(t, d.make([]string{"linux/" + runtime.GOARCH}))
	return d
}

func results(t *testing.T, d *dist) map[string][]byte {
	list, err := os.ReadDir(d.out)
	require.NoError(t, err)
	out := map[string][]byte{}
	for _, e := range list {
		out[e.Name()], err = os.ReadFile(filepath.Join(d.out, e.Name()))
		require.NoError(t, err)
	}
	return out
}

func TestPackages(t *testing.T) {
	if runtime.GOOS != "linux" {
		t.Skip("it is tried where its packages are for")
	}
	t.Setenv("SOURCE_DATE_EPOCH", "1790000000")
	first := pack(t)
	one := results(t, first)
	t.Run("the same bytes twice", func(t *testing.T) {
		old := syscall.Umask(0o077)
		defer syscall.Umask(old)
		t.Setenv("TZ", "Pacific/Auckland")
		two := results(t, pack(t))
		assert.Len(t, two, len(one))
		for name, b := range one {
			assert.True(t, bytes.Equal(b, two[name]), name)
		}
	})
	t.Run("checksums", func(t *testing.T) {
		c := exec.Command("sha256sum", "--check", "--quiet", "SHA256SUMS")
		c.Dir = first.out
		out, err := c.CombinedOutput()
		assert.NoError(t, err, string(out))
		assert.Equal(t, len(one)-1, bytes.Count(one["SHA256SUMS"], []byte("\n")))
	})
	t.Run("what is in it", func(t *testing.T) {
		var bom struct {
			BOMFormat  string `json:"bomFormat"`
			Components []struct{ PURL string }
		}
		require.NoError(t, json.Unmarshal(one["redlocket-"+version.Number+"-contents.cdx.json"], &bom))
		assert.Equal(t, "CycloneDX", bom.BOMFormat)
		all := ""
		for _, c := range bom.Components {
			all += c.PURL + "\n"
		}
		for _, want := range []string{"pkg:golang/std@go", "pkg:golang/modernc.org/sqlite@v", "pkg:npm/htmx.org@2."} {
			assert.Contains(t, all, want)
		}
		assert.NotContains(t, all, "nfpm", "what only packs isn't in it")
		assert.NotContains(t, all, "testify")
	})
	t.Run("extensions", func(t *testing.T) {
		b := one["redlocket-extension-"+version.Number+"-firefox.xpi"]
		z, err := zip.NewReader(bytes.NewReader(b), int64(len(b)))
		require.NoError(t, err)
		_, err = z.Open("manifest.json")
		require.NoError(t, err)
		var m struct {
			Permissions []string `json:"permissions"`
			Optional    []string `json:"optional_permissions"`
		}
		raw, err := os.ReadFile(filepath.Join(root, "extension", "files", "manifest.json"))
		require.NoError(t, err)
		require.NoError(t, json.Unmarshal(raw, &m))
		for _, p := range append(m.Permissions, m.Optional...) {
			assert.Contains(t, string(one["redlocket-extension-"+version.Number+"-chromium.md"]), "`"+p+"`")
		}
	})
	t.Run("installed and started", func(t *testing.T) { installed(t, first) })
}

// installed has the system's own package manager install the package into a root of its own, starts the program as a
// user with an empty home does, and has it removed again.
func installed(t *testing.T, d *dist) {
	deb := filepath.Join(d.out, "redlocket_"+version.Number+"_"+runtime.GOARCH+".deb")
	at := t.TempDir()
	if _, err := exec.LookPath("dpkg"); err != nil {
		t.Skip("this system has other packages")
	}
	admin := filepath.Join(at, "var", "lib", "dpkg")
	for _, dir := range []string{"info", "updates", "triggers"} {
		require.NoError(t, os.MkdirAll(filepath.Join(admin, dir), 0o755))
	}
	require.NoError(t, os.WriteFile(filepath.Join(admin, "status"), nil, 0o644))
	dpkg := func(args ...string) string {
		c := exec.Command("dpkg", append([]string{"--root=" + at, "--force-not-root", "--force-depends"}, args...)...)
		c.Env = []string{"PATH=/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin", "LC_ALL=C"}
		out, err := c.CombinedOutput()
		require.NoError(t, err, string(out))
		return string(out)
	}
	dpkg("--install", deb)
	about := dpkg("--status", "redlocket")
	assert.Contains(t, about, "Status: install ok installed")
	assert.Contains(t, about, "Version: "+version.Number)
	defer func() {
		dpkg("--purge", "redlocket")
		assert.NoFileExists(t, filepath.Join(at, "usr", "bin", "redlocket"))
		assert.NoDirExists(t, filepath.Join(at, "usr", "share", "doc", "redlocket"))
	}()
	for name, mode := range map[string]os.FileMode{
		"usr/bin/redlocket": 0o755, "usr/share/applications/redlocket.desktop": 0o644,
		"usr/lib/systemd/user/redlocket.service": 0o644, "usr/share/doc/redlocket/operating.md": 0o644,
		"usr/share/icons/hicolor/128x128/apps/redlocket.png": 0o644,
	} {
		i, err := os.Stat(filepath.Join(at, name))
		require.NoError(t, err)
		assert.Equal(t, mode, i.Mode().Perm(), name)
	}
	home := t.TempDir()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	port := strconv.Itoa(l.Addr().(*net.TCPAddr).Port)
	require.NoError(t, l.Close())
	run := func(ctx context.Context, args ...string) *exec.Cmd {
		c := exec.CommandContext(ctx, filepath.Join(at, "usr/bin/redlocket"), append(args, "--port", port)...)
		c.Env = []string{"HOME=" + home, "PATH=/usr/bin:/bin"}
		return c
	}
	p := run(t.Context(), "--no-browser")
	require.NoError(t, p.Start())
	page := ""
	require.Eventually(t, func() bool {
		req, err := http.NewRequestWithContext(t.Context(), http.MethodGet, "http://127.0.0.1:"+port+"/front", nil)
		require.NoError(t, err)
		req.Host = "redlocket.localhost:" + port
		resp, err := http.DefaultClient.Do(req)
		if err != nil {
			return false
		}
		var b bytes.Buffer
		_, err = b.ReadFrom(resp.Body)
		page = b.String()
		return errors.Join(err, resp.Body.Close()) == nil
	}, 20*time.Second, 100*time.Millisecond)
	assert.Contains(t, page, "Create a vault")
	status, err := run(t.Context(), "status").CombinedOutput()
	require.NoError(t, err, string(status))
	assert.Contains(t, string(status), version.Number+" (tested)")
	assert.Contains(t, string(status), "Runs: yes")
	require.NoError(t, p.Process.Signal(os.Interrupt))
	require.NoError(t, p.Wait())
	assert.DirExists(t, filepath.Join(home, ".local", "share", "redlocket"))
	assert.False(t, strings.Contains(string(status), home+"/.config"))
}
