package app_test

import (
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/jmoiron/sqlx"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"redlocket/app/store"
	"redlocket/cloud"
	"redlocket/core/secret"
	"redlocket/core/vault"
)

// spoil changes a profile's file as a failing disk or somebody with the disk might.
func spoil(t *testing.T, dir, profile, statement string, args ...any) {
	t.Helper()
	db, err := sqlx.Open("sqlite", "file:"+filepath.Join(dir, profile+".vault"))
	require.NoError(t, err)
	_, err = db.Exec(statement, args...)
	require.NoError(t, err)
	require.NoError(t, db.Close())
}

// One damaged row: the rest opens, and the row comes back from the cloud.
func TestADamagedRow(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	dir := t.TempDir()
	folder, err := store.In(dir)
	require.NoError(t, err)
	d := w.deviceIn(folder)
	desk := w.create(d)
	kept, hurt, edited := w.save(desk, "Kept", "pw"), w.save(desk, "Hurt", "pw"), w.save(desk, "Edited", "old")
	profile := desk.Profile().ID
	laptop := w.join(w.device("laptop"), desk)
	w.inStep(desk, laptop)
	desk.Lock()
	require.NoError(t, d.Close())
	for name, bytes := range map[string]any{
		"one byte":    nil,
		"cut short":   []byte{2, 0, 0, 0, 1},
		"empty":       []byte{},
		"made up":     []byte(strings.Repeat("x", 400)),
		"other epoch": []byte{2, 0, 0, 0, 9, 1, 1, 1, 1, 1},
	} {
		t.Run(name, func(t *testing.T) {
			if bytes == nil {
				spoil(t, dir, profile, `UPDATE records SET blob = CAST(blob || x'00' AS BLOB) WHERE id = ?`, hurt)
			} else {
				spoil(t, dir, profile, `UPDATE records SET blob = ? WHERE id = ?`, bytes, hurt)
			}
			d := w.deviceIn(folder)
			w.down.Store(true)
			desk, err := d.Unlock(t.Context(), profile, secret.New(master))
			require.NoError(t, err)
			assert.Equal(t, "pw", password(t, desk, kept))
			assert.Equal(t, []string{hurt}, desk.Replica.Damaged())
			require.NoError(t, desk.Items.Save(t.Context(), edited, vault.Changes{vault.FieldNotes: name}), "work goes on")
			w.down.Store(false)
			desk.Sync.Nudge()
			soon(t, "it comes back", holds(desk, hurt))
			assert.Equal(t, "pw", password(t, desk, hurt))
			assert.Empty(t, desk.Replica.Damaged())
			soon(t, "and what was edited goes out", func() bool {
				e, err := laptop.Items.Entry(edited)
				return err == nil && e.Text(vault.FieldNotes) == name
			})
			w.inStep(desk, laptop)
			require.NoError(t, d.Close())
		})
	}

	t.Run("changed elsewhere meanwhile", func(t *testing.T) {
		spoil(t, dir, profile, `UPDATE records SET blob = x'02' WHERE id = ?`, hurt)
		require.NoError(t, laptop.Items.Save(t.Context(), hurt, vault.Changes{vault.FieldNotes: "newer"}))
		w.inStep(laptop)
		d := w.deviceIn(folder)
		desk, err := d.Unlock(t.Context(), profile, secret.New(master))
		require.NoError(t, err)
		soon(t, "the newer one comes", func() bool {
			e, err := desk.Items.Entry(hurt)
			return err == nil && e.Text(vault.FieldNotes) == "newer" && len(desk.Replica.Damaged()) == 0
		})
		w.inStep(desk, laptop)
		require.NoError(t, d.Close())
	})

	t.Run("all of them", func(t *testing.T) {
		spoil(t, dir, profile, `UPDATE records SET blob = x'02'`)
		desk, err := w.deviceIn(folder).Unlock(t.Context(), profile, secret.New(master))
		if err == nil { // its index was kept
			err = desk.Ready()
		}
		require.ErrorContains(t, err, "damaged")
	})
}

// A file of an earlier version is moved on, and a copy of it stays until the vault was opened.
func TestAnEarlierSchemaIsMovedOn(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	dir := t.TempDir()
	folder, err := store.In(dir)
	require.NoError(t, err)
	d := w.deviceIn(folder)
	desk := w.create(d)
	kept := w.save(desk, "Kept", "pw")
	profile := desk.Profile().ID
	require.NoError(t, d.Close())
	copied := filepath.Join(dir, profile+".vault.before")
	earlier := []string{`ALTER TABLE stand DROP COLUMN at`, `DELETE FROM goose_db_version WHERE version_id >= 5`}

	spoil(t, dir, profile, earlier[1]) // the column is there: moving on fails
	_, err = w.deviceIn(folder).Unlock(t.Context(), profile, secret.New(master))
	require.ErrorContains(t, err, "failed to open")
	assert.NoFileExists(t, copied, "it was put back")
	spoil(t, dir, profile, earlier[0])

	d = w.deviceIn(folder)
	_, err = d.Profiles(t.Context())
	require.NoError(t, err)
	i, err := os.Stat(copied)
	require.NoError(t, err, "as it was, until the vault was opened")
	assert.Equal(t, os.FileMode(0o600), i.Mode().Perm())
	_, err = d.Unlock(t.Context(), profile, secret.New("not the one at all"))
	require.Error(t, err)
	assert.FileExists(t, copied)
	v, err := d.Unlock(t.Context(), profile, secret.New(master))
	require.NoError(t, err)
	assert.True(t, holds(v, kept)())
	soon(t, "the copy goes", func() bool {
		_, err := os.Stat(copied)
		return errors.Is(err, os.ErrNotExist)
	})
}

// What a newer version wrote is left as it is.
func TestANewerSchemaIsRefused(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	dir := t.TempDir()
	folder, err := store.In(dir)
	require.NoError(t, err)
	d := w.deviceIn(folder)
	desk := w.create(d)
	profile := desk.Profile().ID
	desk.Lock()
	require.NoError(t, d.Close())
	spoil(t, dir, profile, `INSERT INTO goose_db_version (version_id, is_applied) VALUES (9999, 1)`)
	_, err = w.deviceIn(folder).Unlock(t.Context(), profile, secret.New(master))
	require.ErrorContains(t, err, "newer version")
	spoil(t, dir, profile, `DELETE FROM goose_db_version WHERE version_id = 9999`)
	_, err = w.deviceIn(folder).Unlock(t.Context(), profile, secret.New(master))
	require.NoError(t, err, "nothing was changed in it")

	file := filepath.Join(t.TempDir(), "cloud.db")
	c, err := cloud.New(t.Context(), file, cloud.DefaultLimits, nil)
	require.NoError(t, err)
	require.NoError(t, c.Close())
	db, err := sqlx.Open("sqlite", "file:"+file)
	require.NoError(t, err)
	_, err = db.Exec(`INSERT INTO goose_db_version (version_id, is_applied) VALUES (9999, 1)`)
	require.NoError(t, err)
	require.NoError(t, db.Close())
	_, err = cloud.New(t.Context(), file, cloud.DefaultLimits, nil)
	require.ErrorContains(t, err, "newer version")
}
