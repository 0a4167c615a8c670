package app_test

import (
	"context"
	"crypto/rand"
	"fmt"
	mrand "math/rand/v2"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"redlocket/app"
	"redlocket/app/folder"
	"redlocket/app/importing"
	"redlocket/app/records"
	"redlocket/app/store"
	"redlocket/core/secret"
	"redlocket/core/vault"
)

// crashBackup saves a login, and has a backup of all of them written to a folder, over and over.
func crashBackup(ctx context.Context, v *app.Vault, dir string) error {
	if err := v.Reauthenticate(secret.New(master)); err != nil {
		return err
	}
	for n := 1; ; n++ {
		if err := v.Items.Save(ctx, records.NewID(), login("Backed up", strings.Repeat("pw", 500))); err != nil {
			return err
		}
		if err := v.Backups.Schedule(ctx, dir, time.Hour, secret.New(passphrase)); err != nil {
			return err
		}
		x, err := v.Book.Index()
		if err != nil {
			return err
		}
		fmt.Println("written", x.Len(vault.SectionLogins))
	}
}

// A process is killed at random moments of writing backups: each that is there is whole, the newest has all that it
// was said to have, and no more of them than there should be are there.
func TestBackupsKilledAtAnyMoment(t *testing.T) {
	kills := killsOr(t, 12)
	dir, to := t.TempDir(), t.TempDir()
	f, err := store.In(filepath.Join(dir, "backing-up"))
	require.NoError(t, err)
	d := app.New(app.Ports{Stores: f, Rand: rand.Reader, Now: time.Now, Platform: "test"})
	_, err = d.Create(
		t.Context(), app.NewVault{Email: email, Password: secret.New(master), Repeat: secret.New(master)},
	)
	require.NoError(t, err)
	require.NoError(t, d.Close())
	written, left := 0, 0
	for range kills {
		p := run(t, "backing-up", dir, "", to)
		first := <-p.lines
		time.Sleep(time.Duration(mrand.IntN(150)) * time.Millisecond)
		had := 0
		for _, line := range append([]string{first}, p.kill()...) {
			_, err := fmt.Sscanf(line, "written %d", &had)
			require.NoError(t, err, "the device said %q", line)
			written++
		}
		names, err := filepath.Glob(filepath.Join(to, "red-locket-*.age"))
		require.NoError(t, err)
		require.NotEmpty(t, names)
		require.LessOrEqual(t, len(names), 11, "ten, and one that was new when the oldest wasn't removed yet")
		most := 0
		for _, name := range names {
			r, err := folder.Folders{}.Open(to, filepath.Base(name))
			require.NoError(t, err)
			s, err := importing.CheckBackup(r, secret.New(passphrase))
			require.NoError(t, err, "%s isn't whole", name)
			require.NoError(t, r.Close())
			most = max(most, s.Items)
		}
		require.GreaterOrEqual(t, most, had, "what was said to be in a backup isn't in one")
		half, err := filepath.Glob(filepath.Join(to, ".writing-*"))
		require.NoError(t, err)
		left = len(half)
	}
	t.Logf("%d kills, %d backups written, %d cut short", kills, written, left)
}
