package schema

import (
	"database/sql"
	"path/filepath"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/require"
	_ "modernc.org/sqlite"
)

func open(t *testing.T, file string) *sql.DB {
	db, err := sql.Open("sqlite", file)
	require.NoError(t, err)
	t.Cleanup(func() { _ = db.Close() })
	return db
}

func folder(files ...string) fstest.MapFS {
	out := fstest.MapFS{}
	for i := 0; i < len(files); i += 2 {
		out[files[i]] = &fstest.MapFile{Data: []byte(files[i+1])}
	}
	return out
}

const (
	first  = "CREATE TABLE boats (name TEXT); INSERT INTO boats VALUES ('a; b');"
	second = `ALTER TABLE boats ADD COLUMN length INTEGER NOT NULL DEFAULT 3;
		CREATE TRIGGER longer AFTER INSERT ON boats BEGIN UPDATE boats SET length = length + 1; SELECT 1; END;`
)

func TestSteps(t *testing.T) {
	db := open(t, filepath.Join(t.TempDir(), "boats.db"))
	one := folder("0001_start.sql", first)
	both := folder("0001_start.sql", first, "0002_length.sql", second)
	for _, step := range []struct {
		folder fstest.MapFS
		taken  int64
		more   bool
	}{{one, 0, true}, {one, 1, false}, {both, 1, true}, {both, 2, false}} {
		s, err := Of(db, step.folder)
		require.NoError(t, err)
		taken, more, err := s.Left(t.Context())
		require.NoError(t, err)
		require.Equal(t, step.taken, taken)
		require.Equal(t, step.more, more)
		require.NoError(t, s.Take(t.Context()))
	}
	_, err := db.Exec(`INSERT INTO boats (name) VALUES ('c')`)
	require.NoError(t, err)
	var lengths int
	require.NoError(t, db.QueryRow(`SELECT sum(length) FROM boats`).Scan(&lengths))
	require.Equal(t, 8, lengths, "the trigger is whole")

	s, err := Of(db, one)
	require.NoError(t, err)
	_, _, err = s.Left(t.Context())
	require.ErrorIs(t, err, ErrNewer)
}

// A step that fails in its middle leaves the file as it was.
func TestStepThatFails(t *testing.T) {
	db := open(t, filepath.Join(t.TempDir(), "boats.db"))
	s, err := Of(db, folder("0001_start.sql", first, "0002_bad.sql", "CREATE TABLE piers (name TEXT); CREATE TABLE boats (x);"))
	require.NoError(t, err)
	require.Error(t, s.Take(t.Context()))
	var tables int
	require.NoError(t, db.QueryRow(`SELECT count(*) FROM sqlite_master WHERE name IN ('boats', 'piers')`).Scan(&tables))
	require.Equal(t, 1, tables)
	taken, more, err := s.Left(t.Context())
	require.NoError(t, err)
	require.True(t, more)
	require.EqualValues(t, 1, taken)
}

func TestStepWithoutANumber(t *testing.T) {
	_, err := Of(open(t, ":memory:"), folder("start.sql", first))
	require.Error(t, err)
}
