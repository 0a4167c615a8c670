package app_test

import (
	"archive/tar"
	"bytes"
	"crypto/rand"
	"io"
	"os"
	"strings"
	"testing"
	"time"

	"filippo.io/age"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"redlocket/app"
	"redlocket/app/importing"
	"redlocket/app/reauth"
	"redlocket/app/records"
	"redlocket/core/find"
	"redlocket/core/secret"
	"redlocket/core/vault"
)

const passphrase = "winkles under the pier"

// A file is nowhere to be had: the backup is written all the same, and says so.
func TestABackupSaysWhatItLacks(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	desk := w.create(w.device("desk"))
	d := w.device("laptop")
	laptop := w.join(d, desk)
	id := w.save(desk, "Deed", "pw", laptop)
	for _, name := range []string{"deed.txt", "plan.txt"} {
		_, err := desk.Files.Attach(t.Context(), id, name, strings.NewReader("the "+name))
		require.NoError(t, err)
	}
	soon(t, "they are there", func() bool {
		e, err := laptop.Items.Entry(id)
		return err == nil && len(e.Files()) == 2 && w.chunks() == 2
	})
	e, err := laptop.Items.Entry(id)
	require.NoError(t, err)
	for _, f := range e.Files() {
		if f.Name == "plan.txt" {
			w.atCloud(`DELETE FROM chunks WHERE file = ?`, f.ID)
		}
	}
	require.NoError(t, laptop.Reauthenticate(secret.New(master)))
	var out bytes.Buffer
	saved, err := laptop.Backups.Write(t.Context(), &out, secret.New(passphrase))
	require.NoError(t, err)
	assert.Equal(t, []string{"plan.txt"}, saved.Lacks)
	assert.Equal(t, 1, saved.Files)
	assert.Equal(t, []string{"plan.txt"}, laptop.Backups.Lacks(t.Context()))
	checked, err := importing.CheckBackup(&out, secret.New(passphrase))
	require.NoError(t, err)
	assert.Equal(t, 1, checked.Files)
}

func TestBackupComesBackOnAnEmptyMachine(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	d := w.device("desk")
	v := w.create(d)
	id := save(
		t,
		v,
		vault.TypeLogin,
		records.Form{
			Title:     "Gannet Books",
			Addresses: []vault.Address{{URL: "gannet.example"}},
			Values:    map[vault.Field]string{vault.FieldPassword: "one"},
		},
	)
	require.NoError(t, v.Items.Save(t.Context(), id, vault.Changes{vault.FieldPassword: secret.New("two")}))
	scan := make([]byte, 700_000)
	_, err := rand.Read(scan)
	require.NoError(t, err)
	f, err := v.Files.Attach(t.Context(), id, "scan.bin", bytes.NewReader(scan))
	require.NoError(t, err)
	gone, err := v.Files.Attach(t.Context(), id, "old.txt", strings.NewReader("taken off"))
	require.NoError(t, err)
	require.NoError(t, v.Files.Detach(t.Context(), id, gone.ID))

	w.now.Add(time.Hour.Milliseconds())
	var b bytes.Buffer
	_, err = v.Backups.Write(t.Context(), &b, secret.New(passphrase))
	require.ErrorIs(t, err, reauth.ErrNeeded)
	require.NoError(t, v.Reauthenticate(secret.New(master)))
	_, err = v.Backups.Write(t.Context(), &b, secret.New("short"))
	require.ErrorIs(t, err, importing.ErrPassphrase)
	b.Reset()
	s, err := v.Backups.Write(t.Context(), &b, secret.New(passphrase))
	require.NoError(t, err)
	assert.Equal(t, importing.Saved{Items: 1, Files: 2, Bytes: 700_009}, s)
	assert.NotContains(t, b.String(), "Gannet")

	// A general-purpose tool opens it.
	key, err := age.NewScryptIdentity(passphrase)
	require.NoError(t, err)
	plain, err := age.Decrypt(bytes.NewReader(b.Bytes()), key)
	require.NoError(t, err)
	archive := tar.NewReader(plain)
	names := []string{}
	for {
		h, err := archive.Next()
		if err == io.EOF {
			break
		}
		require.NoError(t, err)
		names = append(names, h.Name)
	}
	assert.Equal(
		t,
		[]string{"README.txt", "items.json", "files/" + f.ID + "/scan.bin", "files/" + gone.ID + "/old.txt"},
		names,
	)

	checked, err := importing.CheckBackup(bytes.NewReader(b.Bytes()), secret.New(passphrase))
	require.NoError(t, err)
	assert.Equal(t, s, checked)
	_, err = importing.CheckBackup(bytes.NewReader(b.Bytes()), secret.New("another passphrase"))
	assert.ErrorIs(t, err, importing.ErrWrongPassphrase)

	// On an empty machine, and into itself.
	empty := w.device("new")
	n, err := empty.Create(
		t.Context(),
		app.NewVault{
			Name:     "Maren",
			Email:    "other@cormorant.example",
			Password: secret.New(master),
			Repeat:   secret.New(master),
		},
	)
	require.NoError(t, err)
	for _, cut := range []int{100, 3000, b.Len() / 2, b.Len() - 1} {
		_, err = n.Backups.Restore(t.Context(), bytes.NewReader(b.Bytes()[:cut]), secret.New(passphrase), nil)
		require.Error(t, err, "cut at %d", cut)
		x, err := n.Book.Index()
		require.NoError(t, err)
		assert.Zero(t, x.Len(""), "nothing of it was taken")
	}
	for range 2 {
		_, err = n.Backups.Restore(t.Context(), bytes.NewReader(b.Bytes()), secret.New(passphrase), nil)
		require.NoError(t, err)
	}
	was, err := v.Items.Entry(id)
	require.NoError(t, err)
	is, err := n.Items.Entry(id)
	require.NoError(t, err)
	assert.Equal(t, was, is, "with its history")
	back, err := n.Files.Get(id, f.ID)
	require.NoError(t, err)
	var got bytes.Buffer
	require.NoError(t, n.Files.Read(t.Context(), back, &got))
	assert.Equal(t, scan, got.Bytes())
	_, err = v.Backups.Restore(t.Context(), bytes.NewReader(b.Bytes()), secret.New(passphrase), nil)
	require.NoError(t, err)
	x, err := v.Book.Find(find.Parse("gannet"), 0)
	require.NoError(t, err)
	assert.Equal(t, 1, x.Items)
}

// TestBackupsOfTheOldestVersionComeBack restores a backup of version 1, which was kept when
// that was the only one.
func TestBackupsOfTheOldestVersionComeBack(t *testing.T) {
	t.Parallel()
	b, err := os.ReadFile("testdata/backup-1.age")
	require.NoError(t, err)
	s, err := importing.CheckBackup(bytes.NewReader(b), secret.New(passphrase))
	require.NoError(t, err)
	assert.Equal(t, importing.Saved{Items: 2, Files: 1, Bytes: 9}, s)
	w := newWorld(t)
	v := w.create(w.device("new"))
	_, err = v.Backups.Restore(t.Context(), bytes.NewReader(b), secret.New(passphrase), nil)
	require.NoError(t, err)
	x, err := v.Book.Find(find.Parse("gannet"), 0)
	require.NoError(t, err)
	require.Len(t, x.Sites, 1)
	e, err := v.Items.Entry(x.Sites[0].Accounts[0].ID)
	require.NoError(t, err)
	assert.Equal(t, "two", e.Text(vault.FieldPassword))
	require.NotEmpty(t, e.Past)
	require.Len(t, e.Files(), 1)
	var got bytes.Buffer
	require.NoError(t, v.Files.Read(t.Context(), e.Files()[0], &got))
	assert.Equal(t, "a receipt", got.String())
}
