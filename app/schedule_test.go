package app_test

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"redlocket/app/folder"
	"redlocket/app/importing"
	"redlocket/app/reauth"
	"redlocket/core/secret"
)

func TestBackupsByThemselves(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	d := w.device("desk")
	d.SetFolders(folder.Folders{})
	v := w.create(d)
	require.ErrorIs(
		t,
		v.Backups.Schedule(t.Context(), t.TempDir(), 24*time.Hour, secret.New(passphrase)),
		reauth.ErrNeeded,
	)
	require.NoError(t, v.Reauthenticate(secret.New(master)))
	dir := t.TempDir()
	day := 24 * time.Hour
	require.Error(t, v.Backups.Schedule(t.Context(), "no/whole/path", day, secret.New(passphrase)))
	require.Error(t, v.Backups.Schedule(t.Context(), filepath.Join(dir, "not there"), day, secret.New(passphrase)))
	require.ErrorIs(t, v.Backups.Schedule(t.Context(), dir, day, secret.New("short")), importing.ErrPassphrase)
	_, ok := v.Backups.Plan(t.Context())
	assert.False(t, ok)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "mine.age"), nil, 0o600))
	require.NoError(t, v.Backups.Schedule(t.Context(), dir, day, secret.New(passphrase)))
	count := func() int {
		list, err := filepath.Glob(filepath.Join(dir, "red-locket-*.age"))
		require.NoError(t, err)
		return len(list)
	}
	assert.Equal(t, 1, count())
	require.NoError(t, v.Backups.WriteIfDue(t.Context()))
	assert.Equal(t, 1, count(), "not due yet")
	for range 11 {
		w.now.Add(day.Milliseconds())
		require.NoError(t, v.Backups.WriteIfDue(t.Context()))
	}
	assert.Equal(t, 10, count(), "the last ten")
	assert.FileExists(t, filepath.Join(dir, "mine.age"))

	// The clock was ahead by years, and is put right: nothing is delayed, and the newest stay.
	newest := func() string {
		list, err := filepath.Glob(filepath.Join(dir, "red-locket-*.age"))
		require.NoError(t, err)
		return list[len(list)-1]
	}
	years := (3 * 365 * day).Milliseconds()
	w.now.Add(years)
	require.NoError(t, v.Backups.WriteIfDue(t.Context()))
	ahead := newest()
	w.now.Add(-years)
	for range 9 {
		w.now.Add(day.Milliseconds())
		require.NoError(t, v.Backups.WriteIfDue(t.Context()))
		assert.NotEqual(t, ahead, newest(), "a later one is there")
	}
	assert.FileExists(t, ahead)
	w.now.Add(day.Milliseconds())
	require.NoError(t, v.Backups.WriteIfDue(t.Context()))
	assert.NoFileExists(t, ahead, "it was the oldest of ten then")
	assert.Equal(t, 10, count())

	// The disk goes away, and comes back.
	require.NoError(t, os.Rename(dir, dir+"-away"))
	w.now.Add(day.Milliseconds())
	require.Error(t, v.Backups.WriteIfDue(t.Context()))
	p, _ := v.Backups.Plan(t.Context())
	assert.NotEmpty(t, p.Failed)
	require.NoError(t, os.Rename(dir+"-away", dir))
	require.NoError(t, v.Backups.WriteIfDue(t.Context()), "it waits an hour")
	w.now.Add(time.Hour.Milliseconds())
	require.NoError(t, v.Backups.WriteIfDue(t.Context()))
	p, _ = v.Backups.Plan(t.Context())
	assert.Empty(t, p.Failed)
	require.NoError(t, v.Backups.Unschedule(t.Context()))
	_, ok = v.Backups.Plan(t.Context())
	assert.False(t, ok)
}
