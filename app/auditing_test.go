package app_test

import (
	"crypto/rand"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"redlocket/app"
	"redlocket/app/auditing"
	"redlocket/app/folder"
	"redlocket/app/gate"
	"redlocket/app/records"
	"redlocket/app/store"
	"redlocket/core/audit"
	"redlocket/core/leaks"
	"redlocket/core/secret"
	"redlocket/core/vault"
)

// faults are the faults of each login, by title, once all passwords are judged.
func faults(t *testing.T, v *app.Vault) map[string][]audit.Fault {
	var look auditing.View
	require.Eventually(t, func() bool {
		var err error
		look, err = v.Auditing.Look(t.Context())
		require.NoError(t, err)
		return look.Judged == look.Of
	}, patience, 5*time.Millisecond)
	out := map[string][]audit.Fault{}
	for _, s := range look.Spots {
		e, err := v.Items.Entry(s.ID)
		require.NoError(t, err)
		for _, f := range s.Findings {
			out[e.Text(vault.FieldTitle)] = append(out[e.Text(vault.FieldTitle)], f.Fault)
		}
	}
	return out
}

// A list in a file is taken in, asked, replaced, kept over a lock, refused where it is none, and dropped.
func TestLeakListOnThisComputer(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	f, err := store.In(filepath.Join(dir, "desk"))
	require.NoError(t, err)
	d := app.New(app.Ports{
		Stores: f, Rand: rand.Reader, Now: time.Now, Platform: "test",
		Leaks: folder.LeakFiles{Path: filepath.Join(dir, "desk", "leaked")},
	})
	t.Cleanup(func() { assert.NoError(t, d.Close()) })
	v, err := d.Create(t.Context(), app.NewVault{
		Name: "Maren", Email: email, Password: secret.New(master), Repeat: secret.New(master),
	})
	require.NoError(t, err)
	save := func(title, password string) {
		require.NoError(t, v.Items.Save(t.Context(), records.NewID(), vault.Changes{
			vault.FieldTitle: title, vault.FieldUsername: "m", vault.FieldPassword: secret.New(password),
			vault.FieldAddresses: []vault.Address{{URL: "https://" + title + ".example/"}},
		}))
	}
	save("whimbrel", "Qz7!pLw0XrTa-leaked")
	save("dunlin", "mV5#hGt2NcYe-other")
	assert.Empty(t, faults(t, v))

	list := filepath.Join(dir, "list.txt")
	write := func(text string) { require.NoError(t, os.WriteFile(list, []byte(text), 0o600)) }
	taken := func() auditing.LeakList {
		var l auditing.LeakList
		require.Eventually(t, func() bool {
			l, err = v.Auditing.LeakList()
			require.NoError(t, err)
			return !l.Running
		}, patience, 5*time.Millisecond)
		return l
	}
	write(leaks.HashOf(secret.New("Qz7!pLw0XrTa-leaked")).String() + ":7\n")
	require.NoError(t, v.Auditing.TakeList(list))
	l := taken()
	require.NoError(t, l.Failed)
	assert.Equal(t, int64(1), l.Passwords)
	assert.Equal(t, map[string][]audit.Fault{"whimbrel": {audit.FaultLeaked}}, faults(t, v))

	write("no list at all\n")
	require.NoError(t, v.Auditing.TakeList(list))
	l = taken()
	assert.ErrorIs(t, l.Failed, leaks.ErrNoList)
	assert.True(t, l.There, "the one that was there stays")
	assert.NotEmpty(t, faults(t, v))

	var in *records.InputError
	assert.ErrorAs(t, v.Auditing.TakeList("list.txt"), &in)
	assert.ErrorAs(t, v.Auditing.TakeList(filepath.Join(dir, "nothing")), &in)
	assert.ErrorAs(t, v.Auditing.TakeList(dir), &in)

	v.Lock()
	_, err = v.Auditing.Look(t.Context())
	assert.ErrorIs(t, err, gate.ErrLocked)
	profiles, err := d.Profiles(t.Context())
	require.NoError(t, err)
	v, err = d.Unlock(t.Context(), profiles[0].ID, secret.New(master))
	require.NoError(t, err)
	assert.NotEmpty(t, faults(t, v))
	require.NoError(t, v.Auditing.DropList())
	assert.Empty(t, faults(t, v))
	assert.NoFileExists(t, filepath.Join(dir, "desk", "leaked"))
}
