package records

import (
	"context"
	"errors"

	"redlocket/core/ledger"
)

type hash = ledger.Hash

// Row is a record as a device holds it. It waits to be committed while Rev is above
// BaseRev, the revision that the last verified head vouches for.
type Row struct {
	ID       string
	Rev      uint64
	Blob     []byte
	BaseRev  uint64
	BaseHash ledger.Hash
}

// Checkpoint is the last head that a device has verified. Floor is one that it was told of
// by another device: the cloud has to be there at least.
type Checkpoint struct {
	Number    uint64
	Head      ledger.Hash
	Floor     uint64
	FloorHash ledger.Hash
	Epoch     uint32 // that was known then; 0 before the first
	At        int64  // when it was verified, milliseconds since 1970, by this device's clock
}

// StoredFile is a file whose sealed chunks are on this device.
type StoredFile struct {
	ID     string
	Chunks int
	Whole  bool // all of them are here
	Sent   bool // the cloud has them
}

// Store keeps one set. Every write is one transaction: after a crash it happened whole or
// not at all.
type Store interface {
	Checkpoint(ctx context.Context) (Checkpoint, error)
	// Rows calls fn for every record; the blob is valid during the call only.
	Rows(ctx context.Context, fn func(Row) error) error
	// Blobs returns the sealed bytes of the given records.
	Blobs(ctx context.Context, ids []string) (map[string][]byte, error)
	// Put writes records, and the checkpoint if it isn't nil. Of a row without a blob it writes what the last head
	// vouches for, and leaves the rest.
	Put(ctx context.Context, rows []Row, checkpoint *Checkpoint) error
	// Restart is Put for a state that begins anew: no head vouches for any other record from then on.
	Restart(ctx context.Context, rows []Row, checkpoint Checkpoint) error
	// Forget sees to it that nothing of what was replaced or removed is left in the store's files.
	Forget(ctx context.Context) error
	// Generation grows with every Put.
	Generation(ctx context.Context) (uint64, error)
	// Local and SetLocal keep named sealed bytes that never leave this device.
	// Local returns nil where there are none; setting nil removes them.
	Local(ctx context.Context, name string) ([]byte, error)
	SetLocal(ctx context.Context, name string, sealed []byte) error

	// The sealed chunks of attached files. A file is whole once FinishFile said
	// so; what was cut off before is removed at the next opening.
	PutChunk(ctx context.Context, file string, n int, sealed []byte) error
	Chunk(ctx context.Context, file string, n int) ([]byte, error) // nil if it isn't here
	FinishFile(ctx context.Context, f StoredFile) error
	StoredFiles(ctx context.Context) ([]StoredFile, error)
	RemoveFile(ctx context.Context, file string) error
}

// ErrNoItem is returned for an id that the set doesn't hold.
var ErrNoItem = errors.New("this isn’t in the vault")

// InputError is a refusal of what was typed, with the form's field it is about.
type InputError struct {
	Field string
	Err   error
}

func (e *InputError) Error() string { return e.Err.Error() }
func (e *InputError) Unwrap() error { return e.Err }

// BadInput returns an [InputError].
func BadInput(field string, err error) error { return &InputError{field, err} }
