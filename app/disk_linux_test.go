package app_test

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"redlocket/app"
	"redlocket/app/records"
	"redlocket/app/store"
	"redlocket/core/secret"
	"redlocket/core/vault"
	"redlocket/wording"
)

func init() { saveOnAFullDisk = saveUntilFull }

// saveUntilFull saves until the disk takes no more, reads what it saved, and goes on once there is room again. The
// system's own limit on the size of files stands in for a disk that is full.
func saveUntilFull(ctx context.Context, v *app.Vault) error {
	signal.Ignore(syscall.SIGXFSZ)
	var limit syscall.Rlimit
	if err := syscall.Getrlimit(syscall.RLIMIT_FSIZE, &limit); err != nil {
		return err
	}
	room := limit
	limit.Cur = 400 << 10
	if err := syscall.Setrlimit(syscall.RLIMIT_FSIZE, &limit); err != nil {
		return err
	}
	const most = 10_000
	var ids []string
	save := func() error {
		id := records.NewID()
		err := v.Items.Save(ctx, id, vault.Changes{vault.FieldTitle: "t", vault.FieldNotes: strings.Repeat("n", 5000)})
		if err == nil {
			ids = append(ids, id)
			fmt.Println("saved", id)
		}
		return err
	}
	// what stands in the log may go into the vault's own file meanwhile: then there is room for a while
	var err error
	full := 0
	for i := 0; i < most && full < 3; i++ {
		if err = save(); err == nil {
			full = 0
			continue
		}
		full++
	}
	if full < 3 {
		return errors.New("there is no room, and it was saved")
	}
	fmt.Println("refused", wording.Error(err))
	for _, id := range ids {
		if _, err := v.Items.Entry(id); err != nil {
			return err
		}
	}
	if err := syscall.Setrlimit(syscall.RLIMIT_FSIZE, &room); err != nil {
		return err
	}
	if err := save(); err != nil {
		return fmt.Errorf("there is room again: %w", err)
	}
	fmt.Println("again")
	return nil
}

// A disk that is full costs nothing that was acknowledged: what can't be saved is refused in words, everything can be
// read, and it goes on once there is room.
func TestAFullDisk(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	folder, err := store.In(filepath.Join(dir, "full"))
	require.NoError(t, err)
	d := app.New(app.Ports{Stores: folder, Rand: rand.Reader, Now: time.Now, Platform: "test"})
	typed := secret.New(master)
	v, err := d.Create(t.Context(), app.NewVault{Email: email, Password: typed, Repeat: typed})
	require.NoError(t, err)
	id := v.Profile().ID
	require.NoError(t, d.Close())

	self, err := os.Executable()
	require.NoError(t, err)
	c := exec.Command(self)
	c.Env = append(os.Environ(), "REDLOCKET_CRASH=full", "REDLOCKET_DIR="+dir)
	out, err := c.CombinedOutput()
	require.NoError(t, err, "%s", out)
	text := string(out)
	assert.Contains(t, text, "refused this computer’s disk didn’t take it", "a file that is too large is a broken disk here")
	assert.Contains(t, text, "again")

	d = app.New(app.Ports{Stores: folder, Rand: rand.Reader, Now: time.Now, Platform: "test"})
	defer func() { assert.NoError(t, d.Close()) }()
	v, err = d.Unlock(t.Context(), id, secret.New(master))
	require.NoError(t, err)
	saved := 0
	for line := range strings.Lines(text) {
		if id, ok := strings.CutPrefix(strings.TrimSpace(line), "saved "); ok {
			saved++
			_, err := v.Items.Entry(id)
			require.NoError(t, err, "what was acknowledged is there")
		}
	}
	assert.Greater(t, saved, 10)
	assert.Empty(t, v.Replica.Damaged())
}

// A folder that can't be written to is told in words. It is another user's who tries: nothing is read-only for root.
func TestAReadOnlyFolder(t *testing.T) {
	t.Parallel()
	dir, err := os.MkdirTemp("", "redlocket-")
	require.NoError(t, err)
	defer func() { assert.NoError(t, os.RemoveAll(dir)) }()
	in := filepath.Join(dir, "read-only")
	folder, err := store.In(in)
	require.NoError(t, err)
	d := app.New(app.Ports{Stores: folder, Rand: rand.Reader, Now: time.Now, Platform: "test"})
	_, err = d.Create(t.Context(), app.NewVault{Email: email, Password: secret.New(master), Repeat: secret.New(master)})
	require.NoError(t, err)
	require.NoError(t, d.Close())

	self, err := os.Executable()
	require.NoError(t, err)
	b, err := os.ReadFile(self)
	require.NoError(t, err)
	require.NoError(t, os.Chmod(dir, 0o755))
	program := filepath.Join(dir, "program")
	require.NoError(t, os.WriteFile(program, b, 0o755))
	c := exec.Command(program)
	c.Dir = dir
	c.Env = append(os.Environ(), "REDLOCKET_CRASH=read-only", "REDLOCKET_DIR="+dir)
	if os.Getuid() == 0 {
		const nobody = 65534
		files, err := filepath.Glob(filepath.Join(in, "*"))
		require.NoError(t, err)
		for _, f := range append(files, in) {
			require.NoError(t, os.Chown(f, nobody, nobody))
		}
		c.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: nobody, Gid: nobody}}
	}
	require.NoError(t, os.Chmod(in, 0o500))
	out, err := c.CombinedOutput()
	require.NoError(t, os.Chmod(in, 0o700))
	require.Error(t, err)
	assert.Contains(t, string(out), "can’t be written to")
}
