package cloud

import (
	"context"
	"errors"

	"github.com/jmoiron/sqlx"

	"redlocket/core/wire"
)

// Quota is how much one account may take.
type Quota struct {
	Records int64
	Bytes   int64 // of sealed records and heads
	Files   int64 // bytes of the sealed chunks of files
}

// DefaultQuota is used where none is given: room for some 50,000 items, or ten times as much for one with long notes.
var DefaultQuota = Quota{Records: 50_000, Bytes: 256 << 20, Files: wire.MaxFiles}

// SetQuota sets how much each account may take. It is called before the server is used.
func (s *Server) SetQuota(q Quota) { s.store.quota = q }

// errNoRoom is returned for what would take more than the account's quota.
var errNoRoom = errors.New("there is no room left for more records")

// maxRecord is the most bytes of a sealed record: the most that an entry has, padded.
const maxRecord = 5 << 18

type usage struct {
	Records int64 `db:"records"`
	Bytes   int64 `db:"bytes"`
	Files   int64 `db:"files"`
}

func usageOf(ctx context.Context, tx *sqlx.Tx, account string) (u usage, err error) {
	return u, tx.GetContext(ctx, &u, `SELECT records, bytes, files FROM usage WHERE account = ?`, account)
}

// within runs do, and returns an error if the account takes more than its quota then. What makes it smaller is taken
// also above that.
func (s *store) within(ctx context.Context, tx *sqlx.Tx, account string, do func() error) error {
	before, err := usageOf(ctx, tx, account)
	if err != nil {
		return err
	}
	if err := do(); err != nil {
		return err
	}
	now, err := usageOf(ctx, tx, account)
	if err != nil {
		return err
	}
	over := func(was, is, most int64) bool { return is > most && is > was }
	switch {
	case over(before.Records, now.Records, s.quota.Records), over(before.Bytes, now.Bytes, s.quota.Bytes):
		return errNoRoom
	case over(before.Files, now.Files, s.quota.Files):
		return errFull
	}
	return nil
}
