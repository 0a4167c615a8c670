package app

import (
	"context"
	"io"
	"time"

	"redlocket/app/auditing"
	"redlocket/app/filling"
	"redlocket/app/gate"
	"redlocket/app/helping"
	"redlocket/app/household"
	"redlocket/app/records"
	"redlocket/app/sharing"
	"redlocket/app/syncing"
	"redlocket/core/keys"
	"redlocket/core/wire"
)

// Profile is what a device knows of a person while their vault is closed. Nothing
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
	CarriedBefore   [][]byte    `json:"carried_before,omitempty"` // the last ones, the latest first
	Wrapped         []byte      `json:"wrapped"`
	Ring            []byte      `json:"ring"`             // the keys of all epochs and the slots, sealed under that one
	RecoveryWrapped []byte      `json:"recovery_wrapped"` // of a vault without a cloud; a cloud has it otherwise
	EpochBy         string      `json:"epoch_by"`         // the device that began the epoch
	EpochAt         int64       `json:"epoch_at"`
	EpochOut        []string    `json:"epoch_out"` // devices that were shut out by it and are yet to be noted as such
	Seed            []byte      `json:"seed"`      // of the medallion
	Door            Door        `json:"door,omitzero"`
	// CardAt and CardBy are the stamp of the vault's own card that Params and Wrapped are as new as.
	CardAt    int64  `json:"card_at"`
	CardBy    string `json:"card_by"`
	Closed    int64  `json:"closed"`
	LockAfter int64  `json:"lock_after"` // seconds without use; 0 means DefaultLockAfter

	Leaving bool  `json:"leaving,omitempty"` // it is being taken off this computer: its keys are destroyed
	Broken  error `json:"-"`                 // why its file can't be read; nothing else but the id is known then

	Browsers []BrowserSeen `json:"browsers,omitempty"`  // that are connected, as far as they came since
	BackupAt int64         `json:"backup_at,omitempty"` // when the last backup was written, milliseconds since 1970

	Unlocks      []PlatformUnlock `json:"unlocks,omitempty"`
	MasterAt     int64            `json:"master_at,omitempty"`     // when the master password opened it last
	MasterBoot   string           `json:"master_boot,omitempty"`   // since which start of the computer
	MasterDays   int              `json:"master_days,omitempty"`   // an authenticator serves for; 0: the default
	AfterRestart bool             `json:"after_restart,omitempty"` // then the master password is asked for
	Openings     int              `json:"openings,omitempty"`      // so far, up to offerAfter
	OfferDone    bool             `json:"offer_done,omitempty"`    // it was offered, and answered
}

// BrowserSeen is what can be told of a connected browser while the vault is closed.
type BrowserSeen struct {
	ID      string `json:"id"` // of the connection
	Version string `json:"version"`
	At      int64  `json:"at"` // when it came last, milliseconds since 1970
}

// Store keeps one profile with its records.
type Store interface {
	records.Store
	Profile(ctx context.Context) (Profile, error)
	SetProfile(ctx context.Context, p Profile) error
	// Settled says that the vault was opened with everything in it: what was kept of an earlier version may go.
	Settled() error
	Close() error
}

// Stores opens the profiles of this device.
type Stores interface {
	List(ctx context.Context) ([]string, error)
	Open(ctx context.Context, id string) (Store, error)
	// Create makes an empty store and fills it by fn; if fn fails nothing is left.
	Create(ctx context.Context, id string, fn func(Store) error) (Store, error)
	Remove(ctx context.Context, id string) error
}

// Cloud is the sync service as a device calls it. Its errors are those of package syncing.
type Cloud interface {
	syncing.Cloud
	household.Cloud
	sharing.Cloud
	helping.Cloud
	Params(ctx context.Context, email string) (keys.Params, error)
	// CreateAccount and SignIn give the device a key of its own to sign with. key is the account's, whose public part
	// the cloud knows; it isn't sent.
	CreateAccount(ctx context.Context, key keys.Key, in wire.NewAccount) (Session, error)
	SignIn(ctx context.Context, key keys.Key, in wire.SignIn) (Session, error)
	// AskCode has a code mailed to the account's address; what came of it isn't told.
	AskCode(ctx context.Context, in wire.CodeRequest) error
	// BringBack puts former keys of the account into force and signs in by them. key is the former sign-in key or, for
	// Recovery, the former recovery sign-in key.
	BringBack(ctx context.Context, key keys.Key, in wire.BringBack) (Session, error)
	SetCredentials(ctx context.Context, credential string, key keys.Key, in wire.NewCredentials) error
	// SetLateKeys tells the public keys by which this device's authenticators may ask for new credentials; key is the
	// account's present sign-in key. AskLate has such credentials wait, Late tells what waits, any device stops it by
	// StopLate, and TakeLate brings it into force: syncing.ErrEarly, or syncing.ErrOver if nothing waits.
	SetLateKeys(ctx context.Context, credential string, key keys.Key, publics [][]byte) error
	AskLate(ctx context.Context, credential string, late keys.Key, in wire.LateCredentials) (wire.Late, error)
	Late(ctx context.Context, credential string) (wire.Late, error)
	StopLate(ctx context.Context, credential string) error
	TakeLate(ctx context.Context, credential string, late keys.Key, in wire.TakeLate) error
	// BeginEpoch begins an epoch, and DeleteAccount removes the account with everything in it. key is the account's
	// present sign-in key.
	BeginEpoch(ctx context.Context, credential string, key keys.Key, in wire.NewEpoch) error
	DeleteAccount(ctx context.Context, credential string, key keys.Key) error
	Devices(ctx context.Context, credential string) ([]wire.Device, error)
	EndDevice(ctx context.Context, credential, device string) error
	NewIntroduction(ctx context.Context, in wire.NewIntroduction) (wire.Introduction, error)
	IntroductionAnswer(ctx context.Context, email, id, secret string) ([]byte, error)
	Introductions(ctx context.Context, credential string) ([]wire.Introduction, error)
	AnswerIntroduction(ctx context.Context, credential, id string, sealed []byte) error
	// AskHelp asks the helpers of an address; HelpState tells how far that is, or ends it: syncing.ErrOver if there is
	// no such request any more.
	AskHelp(ctx context.Context, in wire.AskHelp) (wire.HelpAsked, error)
	HelpState(ctx context.Context, id string, in wire.LookForHelp) (wire.HelpState, error)
}

// Session is the answer to a sign-in.
type Session struct {
	Credential string // the device's own, to sign requests with
	Vault      string
	Params     keys.Params
	Wrapped    []byte
}

// SessionEvents is what a device does about the user's session at the computer.
type SessionEvents struct {
	Open     func() bool // whether there is a vault to be locked: without one nobody has to look
	Locked   func()      // its screen was locked
	Sleeping func()      // the computer is going to sleep, once this returns where the system waits
}

// Keeper keeps one thing for this computer, whoever uses it.
type Keeper interface {
	Load(ctx context.Context) ([]byte, error) // nil without one
	Keep(ctx context.Context, b []byte) error // whole or not at all; nil to forget it
}

// Ports are what the application needs from outside.
type Ports struct {
	Stores   Stores
	Dial     func(url string) (Cloud, error)
	Now      func() time.Time
	Rand     io.Reader
	Platform string        // what the device calls its operating system
	Boot     string        // names the present start of the computer; empty where the system doesn't tell
	Sites    filling.Asker // nil without a network
	Seeking  Keeper        // what asks for help here; nil where nothing can be kept
	Folders  Folders       // for scheduled backups; nil without a file system
	Leaks    auditing.LeakFiles
	Leaked   auditing.LeakService // nil without a network
	Post     auditing.Post        // nil without a network
	// WatchSession tells of the user's session at this computer until ctx ends; nil where the system doesn't tell.
	WatchSession func(ctx context.Context, on SessionEvents)
	Steps        gate.Steps // for tests
}
