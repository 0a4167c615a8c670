package syncing

import (
	"context"
	"errors"

	"redlocket/core/keys"
	"redlocket/core/wire"
)

// Cloud is the sync service as a line calls it.
type Cloud interface {
	Changes(ctx context.Context, credential string, since uint64) (wire.Changes, error)
	Commit(ctx context.Context, credential string, c wire.Commit) error
	// Records returns some records as they are now, those that are there.
	Records(ctx context.Context, credential string, ids []string) ([]wire.Record, error)
	// Epoch returns the statement that began the newest epoch.
	Epoch(ctx context.Context, credential string) (keys.Statement, error)
	// Events calls fn once the line is up, and for every new head, until it breaks.
	Events(ctx context.Context, credential string, fn func(head uint64)) error
	// PutChunk and Chunk carry sealed chunks of files; RemoveFile drops all of one.
	PutChunk(ctx context.Context, credential, file string, n int, sealed []byte) error
	// Files lists the files of which it has chunks.
	Files(ctx context.Context, credential string) ([]wire.StoredFile, error)
	Chunk(ctx context.Context, credential, file string, n int) ([]byte, error)
	RemoveFile(ctx context.Context, credential, file string) error
}

// The errors that a cloud returns and callers act on.
var (
	ErrConflict  = errors.New("somebody else's commit came first")
	ErrSignIn    = errors.New("the e-mail address, the master password or the carried half is not right")
	ErrClosed    = errors.New("this cloud takes no new accounts: ask whoever runs it")
	ErrSignedOut = errors.New("this device is no longer signed in at the cloud")
	ErrTaken     = errors.New(
		"this e-mail address has a vault in this cloud already; bring it to this computer instead",
	)
	// The cloud wants an invitation, or a code that it mailed, and this isn't it, or none was given.
	ErrInvitation = errors.New("this cloud takes new accounts by invitation only: type the one that you were given")
	ErrCode       = errors.New("this isn’t the code that was mailed last, or it was for another address; each is " +
		"good for 15 minutes and five tries")
	ErrNoMail   = errors.New("this cloud mails nothing: ask whoever runs it")
	ErrTooMany  = errors.New("too many attempts: wait a few minutes and try again")
	ErrNotReady = errors.New("the other device hasn't answered yet")
	ErrOver     = errors.New("this introduction is over; start again on the new device")
	// Of new credentials that wait.
	ErrEarly    = errors.New("it hasn’t waited long enough yet")
	ErrWaits    = errors.New("another of your devices has asked already: stop it there or here first")
	ErrOffline  = errors.New("the cloud can't be reached")
	ErrCloudURL = errors.New("the cloud's address must begin with https:// (http:// only on this computer)")
	ErrNoChunk  = errors.New(
		"the cloud doesn't have this file yet; the device it was attached on has to be online once more",
	)
	ErrManyLetters = errors.New("too many things wait there already; this one goes out once there is room")
	ErrCloudFull   = errors.New("there is no room left for files at the cloud")
	ErrNoRoom      = errors.New("there is no room left for this vault at the cloud")
	ErrManySets    = errors.New(
		"nothing more can be shared one by one: put what belongs together into a book, and share that",
	)
	ErrCloudSick = errors.New("the cloud has trouble")
)
