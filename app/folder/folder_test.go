package folder_test

import (
	"errors"
	"io"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"redlocket/app/folder"
)

func TestAFileIsWrittenWholeOrNotAtAll(t *testing.T) {
	dir, f := t.TempDir(), folder.Folders{}
	names := func() []string {
		list, err := f.List(dir)
		require.NoError(t, err)
		return list
	}
	text := func(s string) func(io.Writer) error {
		return func(w io.Writer) error { _, err := io.WriteString(w, s); return err }
	}
	require.NoError(t, f.Put(dir, "a.age", text("one")))
	full := errors.New("the disk is full")
	require.ErrorIs(t, f.Put(dir, "a.age", func(w io.Writer) error { return errors.Join(text("tw")(w), full) }), full)
	assert.Equal(t, []string{"a.age"}, names(), "nothing is left of it")
	r, err := f.Open(dir, "a.age")
	require.NoError(t, err)
	b, err := io.ReadAll(r)
	require.NoError(t, errors.Join(err, r.Close()))
	assert.Equal(t, "one", string(b), "and what was there stays")
	require.Error(t, f.Put("not/whole", "a.age", text("one")))
	require.Error(t, f.Put(filepath.Join(dir, "not there"), "a.age", text("one")))
}

// What programs that were ended left is removed, what somebody is writing now isn't.
func TestWhatWasLeftIsRemoved(t *testing.T) {
	dir, f := t.TempDir(), folder.Folders{}
	old, now := filepath.Join(dir, ".writing-1"), filepath.Join(dir, ".writing-2")
	require.NoError(t, errors.Join(os.WriteFile(old, nil, 0o600), os.WriteFile(now, nil, 0o600)))
	then := time.Now().Add(-25 * time.Hour)
	require.NoError(t, os.Chtimes(old, then, then))
	require.NoError(t, f.Put(dir, "a.age", func(io.Writer) error { return nil }))
	list, err := f.List(dir)
	require.NoError(t, err)
	assert.ElementsMatch(t, []string{".writing-2", "a.age"}, list)
	require.NoError(t, f.Remove(dir, "a.age"))
}
