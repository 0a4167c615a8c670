// Package wire has the messages between a device and the cloud, as
// docs/format.md specifies them. All travel as JSON; byte strings in base64.
package wire

import "redlocket/core/keys"

// Limits that both sides keep.
const (
	MaxRecords = 20000     // records in one commit
	MaxDevices = 100       // of one account
	MaxFetched = 500       // records asked for by their ids at once
	MaxBody    = 64 << 20  // bytes of a request
	MaxPart    = 8 << 20   // bytes of a part of the changes, and of any other answer
	MaxPull    = 128 << 20 // bytes of all parts of the changes together
	MaxInPart  = 50000     // heads and records of a part
	MaxChunk   = 320 << 10 // bytes of a sealed chunk of a file
	MaxChunks  = 64        // of one file
	MaxFiles   = 5 << 28   // bytes of an account's sealed files: those of its devices' limit, padded
)

// Credentials are what a cloud keeps to know a person again: public keys alone, and the vault key
// as only that person can unwrap it.
type Credentials struct {
	Params          keys.Params `json:"params"`
	SignIn          []byte      `json:"sign_in"`          // public, Ed25519, of each slot
	RecoverySignIn  []byte      `json:"recovery_sign_in"` // public, Ed25519
	Wrapped         []byte      `json:"wrapped"`
	RecoveryWrapped []byte      `json:"recovery_wrapped"`
}

// Challenge is drawn by the cloud, and good for two minutes.
type Challenge struct {
	Challenge []byte `json:"challenge"`
}

// NewAccount asks for an account. It comes with a proof by the sign-in key in it.
type NewAccount struct {
	Email     string `json:"email"`
	Vault     string `json:"vault"`
	Device    string `json:"device"`
	DeviceKey []byte `json:"device_key"` // public, Ed25519: the device signs with it from here on
	Admission
	Credentials
}

// Admission is what a cloud may ask for before it makes an account.
type Admission struct {
	Invitation string `json:"invitation,omitempty"` // from whoever runs the cloud
	Code       string `json:"code,omitempty"`       // that was mailed to the address
}

// CodeRequest asks the cloud to mail a code to an address. The answer is the same whether it does so or not.
type CodeRequest struct {
	Email      string `json:"email"`
	Purpose    string `json:"purpose"`
	Invitation string `json:"invitation,omitempty"`
}

// What codes are mailed for.
const (
	ForAccount   = "account"    // to make one
	ForBringBack = "bring-back" // to bring one back whose keys were replaced
)

// BringBack puts the keys of an account into force that were replaced in the last [BringBackDays] days: with a code
// that was mailed to its address, and a proof by the sign-in key that was replaced or, for Recovery, the recovery
// sign-in key.
type BringBack struct {
	SignIn
	Code string `json:"code"`
}

// BringBackDays is for how many days an account can be brought back.
const BringBackDays = 14

// ParamsRequest asks how to stretch the master password for an e-mail address.
type ParamsRequest struct {
	Email string `json:"email"`
}

// SignIn comes with a proof by the sign-in key or, for Recovery, by the recovery sign-in key.
type SignIn struct {
	Email     string `json:"email"`
	Device    string `json:"device"`
	DeviceKey []byte `json:"device_key"` // public, Ed25519: the device signs with it from here on
	Recovery  bool   `json:"recovery,omitempty"`
}

// NewCredentials replace those of an account. They come with a proof by its present sign-in key or, for Recovery, its
// present recovery sign-in key. Without RecoverySignIn and RecoveryWrapped those stay as they are.
type NewCredentials struct {
	Recovery     bool `json:"recovery,omitempty"`
	KeepSessions bool `json:"keep_sessions,omitempty"` // of the other devices
	Credentials
}

// LateKeys are the public keys (Ed25519) by which a device may ask for new credentials that come into force after a
// wait. They come with a proof by the present sign-in key.
type LateKeys struct {
	Keys [][]byte `json:"keys"`
}

// LateCredentials ask for a new sign-in key and what goes with it, with a proof by a late key.
type LateCredentials struct {
	Params  keys.Params `json:"params"`
	SignIn  []byte      `json:"sign_in"` // public, Ed25519, of each slot
	Wrapped []byte      `json:"wrapped"`
}

// TakeLate brings what was asked for into force, once it has waited, with a proof by a late key.
type TakeLate struct {
	SignIn []byte `json:"sign_in"` // as it was asked for
}

// Late is what waits in an account: who asked for it, and when it can be taken. Without a device nothing waits.
type Late struct {
	Device string `json:"device"`
	Due    int64  `json:"due"` // milliseconds since 1970
}

// Session is the answer to a sign-in: the account, and the vault key as it is wrapped for the key that was shown.
type Session struct {
	Account string      `json:"account"`
	Vault   string      `json:"vault"`
	Params  keys.Params `json:"params"`
	Wrapped []byte      `json:"wrapped"`
}

// Letter is what a person sends to another one: the cloud keeps it until the receiver has it, or LetterDays have
// passed. From is the sender's address as the cloud knows it, and nothing that a receiver believes.
type Letter struct {
	ID   string `json:"id"`
	Kind string `json:"kind"`
	From string `json:"from"`
	At   int64  `json:"at"`             // when it came, in milliseconds since 1970
	Body []byte `json:"body,omitempty"` // left out in lists
}

// NewLetter hands a letter over for an address, whether that has an account or not: the answer is the same. The same
// sender's letter of the same id is kept once.
type NewLetter struct {
	To    string `json:"to"`
	Kind  string `json:"kind"`
	First string `json:"first,omitempty"` // the sender's first name, for the mail that says that something waits
	Body  []byte `json:"body"`
}

// What a letter is.
const (
	LetterOffer  = "offer"  // of a meeting: the sender asks to be added
	LetterAnswer = "answer" // of a meeting
	LetterReveal = "reveal" // of a meeting
	LetterNote   = "note"   // sealed
)

// TakeBack removes a letter that the sender handed over, if it is still there.
type TakeBack struct {
	To string `json:"to"`
}

// LetterMail says whether the cloud may mail the account's owner that a letter waits.
type LetterMail struct {
	On bool `json:"on"`
}

// Limits of letters.
const (
	MaxLetter  = 4 << 20  // bytes of a note
	MaxMessage = 16 << 10 // bytes of one of another kind than a note
	MaxWaiting = 64 << 20 // bytes that wait for one address, or from one sender
	MaxLetters = 300      // that wait for one address
	MaxFromOne = 50       // of these from one sender
	MaxHanded  = 300      // that one sender has waiting anywhere
	NoteDays   = 7
	LetterDays = 14 // of every other kind
)

// NewHand keeps a helping hand, in the place of the one before: what is sealed for the owner of the account, and who
// holds a part of what opens it. It comes with a proof by the account's present sign-in key. Without Hand there is none
// from then on.
type NewHand struct {
	Hand    string       `json:"hand,omitempty"` // its id
	Need    int          `json:"need,omitempty"` // helpers
	Wait    int64        `json:"wait,omitempty"` // milliseconds from being asked until Sealed is handed out
	Sealed  []byte       `json:"sealed,omitempty"`
	Helpers []HandHelper `json:"helpers,omitempty"`
}

// HandHelper is who holds a part: their address, and the part as it is sealed to them.
type HandHelper struct {
	Address string `json:"address"`
	Part    []byte `json:"part"`
}

// Hand is what the cloud tells the owner of it.
type Hand struct {
	Hand  string     `json:"hand"`  // empty: there is none
	Holds []string   `json:"holds"` // addresses of those whose devices have said that they hold their part
	Asked []HelpSeen `json:"asked"` // what waits, the latest first
}

// HelpSeen is a request for help, as the owner's devices are told of it.
type HelpSeen struct {
	ID      string `json:"id"`
	At      int64  `json:"at"`      // when it was made, milliseconds since 1970
	Due     int64  `json:"due"`     // not before this; 0 while nobody helps
	Helping int    `json:"helping"` // who help
}

// HeldHand is a hand of which the account's owner is a helper.
type HeldHand struct {
	Hand  string `json:"hand"`
	Of    string `json:"of"`             // the address of who is helped
	Part  []byte `json:"part,omitempty"` // until the helper has said that they hold it
	Asked []Help `json:"asked"`
}

// Help is a request as a helper sees it, and what they answer.
type Help struct {
	ID        string `json:"id,omitempty"`
	At        int64  `json:"at,omitempty"`
	PublicKey []byte `json:"public_key,omitempty"` // [keys.Joiner.Hello]
	Helps     bool   `json:"helps,omitempty"`      // the helper's words were right
	Due       int64  `json:"due,omitempty"`        // not before this, as the helper counts
	Sealed    []byte `json:"sealed,omitempty"`     // the part, to who asks; none yet while it waits
}

// AskHelp asks the helpers of an address, from a device that has nothing yet. Whether there are any isn't told.
type AskHelp struct {
	Email     string `json:"email"`
	PublicKey []byte `json:"public_key"`
}

// HelpAsked names a request. It can be looked at by who has its secret.
type HelpAsked struct {
	ID     string `json:"id"`
	Secret string `json:"secret"`
}

// LookForHelp asks how far a request is, or ends it.
type LookForHelp struct {
	Email  string `json:"email"`
	Secret string `json:"secret"`
	End    bool   `json:"end,omitempty"`
}

// HelpState is how far a request is. Sealed comes once enough have helped and the wait is over.
type HelpState struct {
	Stopped bool     `json:"stopped,omitempty"` // by a device of the account
	Helping int      `json:"helping"`
	Need    int      `json:"need,omitempty"` // told once somebody helps
	Due     int64    `json:"due,omitempty"`
	Parts   [][]byte `json:"parts,omitempty"` // sealed to who asks
	Sealed  []byte   `json:"sealed,omitempty"`
}

// Limits of a helping hand.
const (
	MaxHelpers = 5
	HelpDays   = 30 // a request is kept so long
	MaxAsked   = 20 // requests at one account: the oldest that nobody helps makes room
)

// SharedSet is a set that several people hold, as it is listed to one of them. The cloud knows the members' addresses,
// and which of them may change it and manage it.
type SharedSet struct {
	ID      string   `json:"id"`
	Epoch   uint32   `json:"epoch"`
	Latest  uint64   `json:"latest"` // the newest head of the epoch
	Tip     string   `json:"tip"`    // its hash, as in Changes
	Member  bool     `json:"member"` // or was one, and a box waits
	Waiting []SetBox `json:"waiting,omitempty"`
}

// SetBox is something sealed to one member, signed by another.
type SetBox struct {
	ID     string `json:"id"`
	Epoch  uint32 `json:"epoch"`
	Kind   string `json:"kind"`
	Sealed []byte `json:"sealed,omitempty"` // not where it is listed
}

// Kinds of boxes.
const (
	BoxEpoch    = "epoch"    // the roll and the key of an epoch
	BoxFarewell = "farewell" // the epoch has begun without the receiver
	BoxLeave    = "leave"    // somebody leaves, to one who may manage
)

// NewSetEpoch begins an epoch of a shared set, or the set with its first one. It is taken on top of the epoch before,
// from one who may manage; from then on who isn't in Members holds it no more, and what was sealed in earlier epochs is
// dropped.
type NewSetEpoch struct {
	Epoch   uint32      `json:"epoch"`
	First   string      `json:"first"` // the sender's first name, for mails to who is new
	Members []SetMember `json:"members"`
	Out     []SetMember `json:"out,omitempty"` // who is told a farewell
}

// SetMember is a member as the cloud knows them, and what is sealed to them.
type SetMember struct {
	Email  string `json:"email"`
	Change bool   `json:"change"`
	Manage bool   `json:"manage"`
	Sealed []byte `json:"sealed"`
}

// LeaveSet tells those who may manage a set that the sender leaves it. Nothing of it is handed to them from then on.
type LeaveSet struct {
	Epoch uint32      `json:"epoch"`
	To    []SetMember `json:"to"`
}

// Limits of shared sets.
const (
	MaxSets        = 60 // that one account has begun
	MaxMembers     = 20
	MaxSetBox      = 128 << 10 // bytes
	MaxSetsOfOne   = 200       // that one address is in
	MaxSetsFromOne = 60        // of these that one account has begun
	SetBoxDays     = 400       // that a box of a former member waits
)

// Head is a sealed head.
type Head struct {
	Number uint64 `json:"n"`
	Blob   []byte `json:"blob"`
}

// Record is a sealed record.
type Record struct {
	ID   string `json:"id"`
	Rev  uint64 `json:"rev"`
	Blob []byte `json:"blob"`
}

// Changes are the heads after a given one, and the newest revision of every record that changed in them. They come in
// parts: heads first, then records.
type Changes struct {
	Latest  uint64   `json:"latest"`
	Tip     string   `json:"tip"`   // hex SHA-256 of the newest sealed head; empty before the first
	Epoch   uint32   `json:"epoch"` // the newest
	Heads   []Head   `json:"heads"`
	Records []Record `json:"records"`
	More    string   `json:"more,omitempty"` // where the next part begins; empty for the last
}

// StoredFile is a file of which a cloud has chunks.
type StoredFile struct {
	ID     string `json:"id"`
	Chunks int    `json:"chunks"`
}

// Wanted asks for records by their ids.
type Wanted struct {
	IDs []string `json:"ids"`
}

// Commit brings changed records and the head that vouches for the state with
// them. It is taken only on top of the head with the given hash.
type Commit struct {
	Parent  string   `json:"parent"` // hex SHA-256 of the sealed head before; empty for the first
	Head    Head     `json:"head"`
	Records []Record `json:"records"`
}

// NewEpoch begins an epoch: another vault key, told to the devices that stay by a statement that one of them signed. It
// comes with a proof by the account's present sign-in key, and is taken whole or not at all: from then on the sessions
// of the devices in Out have ended, the credentials are the new ones, and the commit is the newest. A fresh epoch
// begins with its commit, whatever the cloud had before: heads and records of before are dropped. Without
// RecoverySignIn that stays as it is.
type NewEpoch struct {
	Epoch     uint32         `json:"epoch"`
	Statement keys.Statement `json:"statement"`
	Out       []string       `json:"out,omitempty"`
	Fresh     bool           `json:"fresh,omitempty"`
	Commit    Commit         `json:"commit"`
	Credentials
}

// Device is a device as the cloud knows it.
type Device struct {
	ID      string `json:"id"`
	Since   int64  `json:"since"` // milliseconds since 1970
	Seen    int64  `json:"seen"`
	Current bool   `json:"current"`
}

// NewIntroduction is asked for by a new device.
type NewIntroduction struct {
	Email     string `json:"email"`
	PublicKey []byte `json:"public_key"`
}

// Introduction is one that waits, or one that was answered.
type Introduction struct {
	ID        string `json:"id"`
	Email     string `json:"email,omitempty"`  // of whoever asks for the answer
	Secret    string `json:"secret,omitempty"` // for the new device alone, to ask for the answer
	PublicKey []byte `json:"public_key,omitempty"`
	Sealed    []byte `json:"sealed,omitempty"`
}

// Error is the answer to a request that failed.
type Error struct {
	Code    string `json:"code"`
	Message string `json:"message"`
}

// The codes of errors that devices act on.
const (
	CodeConflict    = "conflict"     // the commit isn't on top of the newest head
	CodeSignIn      = "sign-in"      // e-mail address or key are not right
	CodeToken       = "token"        // the session has ended
	CodeClock       = "clock"        // the request's time is too far from the cloud's
	CodeClosed      = "closed"       // no new accounts are made here
	CodeTaken       = "taken"        // the e-mail address has an account
	CodeInvitation  = "invitation"   // no account without an invitation, and this isn't one
	CodeNoMail      = "no-mail"      // this cloud mails nothing
	CodeProof       = "proof"        // a code that was mailed is needed, and this isn't it
	CodeTooMany     = "too-many"     // slow down
	CodeBadRequest  = "bad-request"  // the message can't be read
	CodeNotFound    = "not-found"    // nothing is there
	CodeNoChunk     = "no-chunk"     // a chunk of a file that isn't here
	CodeFull        = "full"         // no room left for files
	CodeNoRoom      = "no-room"      // no room left for records
	CodeManySets    = "many-sets"    // no more things can be shared by, or with, an account
	CodeInternal    = "internal"     // the cloud's own trouble
	CodeNotReady    = "not-ready"    // an introduction nobody has answered yet
	CodeEarly       = "early"        // what waits hasn't waited long enough
	CodeManyLetters = "many-letters" // too many letters wait for an address, or from a sender
	CodeWaits       = "waits"        // another device has asked already
)
