package app

import (
	"context"
	"errors"
	"io"
	"time"

	"redlocket/core/keys"
	"redlocket/core/ledger"
	"redlocket/core/wire"
)

// Profile is what a device knows of a profile while its vault is closed. Nothing
// in it opens the vault without the master password or the recovery code.
type Profile struct {
	ID              string      `json:"id"`
	Name            string      `json:"name"`
	Email           string      `json:"email"`
	Vault           string      `json:"vault"`
	Device          string      `json:"device"`
	DeviceName      string      `json:"device_name"`
	Cloud           string      `json:"cloud"` // its address; empty for a vault on this computer only
	Params          keys.Params `json:"params"`
	Carried         []byte      `json:"carried"`
	Wrapped         []byte      `json:"wrapped"`
	RecoveryWrapped []byte      `json:"recovery_wrapped"`
	Seed            []byte      `json:"seed"` // of the medallion
	Closed          int64       `json:"closed"`
	LockAfter       int64       `json:"lock_after"` // seconds without use; 0 means DefaultLockAfter
}

// Row is a record as a device holds it. It is pending while Rev is above
// BaseRev, the revision that the last verified head vouches for.
type Row struct {
	ID       string
	Rev      uint64
	Blob     []byte
	BaseRev  uint64
	BaseHash ledger.Hash
}

// Checkpoint is the last head a device has verified.
type Checkpoint struct {
	Number    uint64
	Head      ledger.Hash
	Floor     uint64
	FloorHash ledger.Hash
}

// Store keeps one profile. Every write is one transaction: after a crash it
// happened whole or not at all.
type Store interface {
	Profile(ctx context.Context) (Profile, error)
	SetProfile(ctx context.Context, c Profile) error
	Checkpoint(ctx context.Context) (Checkpoint, error)
	// Rows calls fn for every record; the blob is valid during the call only.
	Rows(ctx context.Context, fn func(Row) error) error
	// Blobs returns the sealed bytes of the given records.
	Blobs(ctx context.Context, ids []string) (map[string][]byte, error)
	// Put writes records, and the stand if it isn't nil.
	Put(ctx context.Context, rows []Row, stand *Checkpoint) error
	// Generation grows with every Put.
	Generation(ctx context.Context) (uint64, error)
	// Local and SetLocal keep named sealed bytes that never leave this device.
	// Local returns nil where there are none; setting nil removes them.
	Local(ctx context.Context, name string) ([]byte, error)
	SetLocal(ctx context.Context, name string, sealed []byte) error

	// The sealed chunks of attached files. A file is whole once FinishFile said
	// so; what was cut off before is swept away.
	PutChunk(ctx context.Context, file string, n int, sealed []byte) error
	Chunk(ctx context.Context, file string, n int) ([]byte, error) // nil if it isn't here
	FinishFile(ctx context.Context, f StoredFile) error
	StoredFiles(ctx context.Context) ([]StoredFile, error)
	RemoveFile(ctx context.Context, file string) error
	Close() error
}

// StoredFile is a file whose sealed chunks are on this device.
type StoredFile struct {
	ID     string
	Chunks int
	Whole  bool // all of them are here
	Sent   bool // the cloud has them
}

// Stores opens the profiles of this device.
type Stores interface {
	List(ctx context.Context) ([]string, error)
	Open(ctx context.Context, id string) (Store, error)
	// Create makes an empty store and fills it by fn; if fn fails nothing is left.
	Create(ctx context.Context, id string, fn func(Store) error) (Store, error)
	Remove(ctx context.Context, id string) error
}

// Cloud is the sync service as a device calls it.
type Cloud interface {
	Params(ctx context.Context, email string) (keys.Params, error)
	CreateAccount(ctx context.Context, in wire.NewAccount) (wire.Session, error)
	SignIn(ctx context.Context, in wire.SignIn) (wire.Session, error)
	SetCredentials(ctx context.Context, token string, in wire.Credentials) error
	Changes(ctx context.Context, token string, since uint64) (wire.Changes, error)
	Commit(ctx context.Context, token string, c wire.Commit) error
	// Events calls fn once the line is up, and for every new head, until it breaks.
	Events(ctx context.Context, token string, fn func(head uint64)) error
	// PutChunk and Chunk carry sealed chunks of files; RemoveFile drops all of one.
	PutChunk(ctx context.Context, token, file string, n int, sealed []byte) error
	Chunk(ctx context.Context, token, file string, n int) ([]byte, error)
	RemoveFile(ctx context.Context, token, file string) error
	Devices(ctx context.Context, token string) ([]wire.Device, error)
	EndDevice(ctx context.Context, token, device string) error
	NewIntroduction(ctx context.Context, in wire.NewIntroduction) (wire.Introduction, error)
	IntroductionAnswer(ctx context.Context, id, secret string) ([]byte, error)
	Introductions(ctx context.Context, token string) ([]wire.Introduction, error)
	AnswerIntroduction(ctx context.Context, token, id string, sealed []byte) error
}

// The errors that a Cloud returns and callers act on.
var (
	ErrConflict  = errors.New("somebody else's commit came first")
	ErrSignIn    = errors.New("the e-mail address, the master password or the carried half is not right")
	ErrToken     = errors.New("this device is no longer signed in at the cloud")
	ErrTaken     = errors.New("this e-mail address has a vault in this cloud already; bring it to this computer instead")
	ErrTooMany   = errors.New("too many attempts: wait a few minutes and try again")
	ErrNotReady  = errors.New("the other device hasn't answered yet")
	ErrOver      = errors.New("this introduction is over; start again on the new device")
	ErrOffline   = errors.New("the cloud can't be reached")
	ErrCloudURL  = errors.New("the cloud's address must begin with https:// (http:// only on this computer)")
	ErrNoChunk   = errors.New("the cloud doesn't have this file yet; the device it was attached on has to be online once more")
	ErrCloudFull = errors.New("there is no room left for files at the cloud")
	ErrCloudSick = errors.New("the cloud has trouble")
)

// Ports are what the application needs from outside.
type Ports struct {
	Stores   Stores
	Dial     func(url string) (Cloud, error)
	Now      func() time.Time
	Rand     io.Reader
	Platform string  // what the device calls its operating system
	Sites    Asker   // nil without a network
	Folders  Folders // for scheduled backups; nil without a file system
}
