// Package syncing is one set's line to its cloud.
//
// A [Line] pulls what other devices committed, has the set verify and merge it, and commits
// what waits; [Line.Sync] does that once, one run at a time. From [Line.Start] to [Line.Stop]
// it does so by itself: when the cloud tells of a new head, when something waits
// ([Line.Nudge]), and every minute. It never gives up: trouble is told by [Line.Status], and
// tried again after a growing wait.
//
// What is verified, and how, is package ledger's; entries and keys stay in package records.
package syncing

import (
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"math/rand/v2"
	"sync"
	"sync/atomic"
	"time"

	"redlocket/app/records"
	"redlocket/core/keys"
	"redlocket/core/ledger"
	"redlocket/core/wire"
)

// Status says how a set stands to its cloud.
type Status struct {
	State   State
	Since   time.Time // when it came into this state, or was last in step
	Detail  string    // for a fault or trouble: what, in plain words
	Waiting int       // records not yet committed
}

// State is one word of a status.
type State string

// The states.
const (
	NoCloud  State = ""         // the set is on this computer only
	InStep   State = "in step"  // all is committed, nothing is missing
	Catching State = "catching" // work is going on
	Away     State = "away"     // the cloud can't be reached; it will catch up
	Full     State = "full"     // the cloud has no room for what waits; what others do still comes
	Ended    State = "ended"    // the cloud no longer takes this device's session
	Fault    State = "fault"    // the cloud's answer was refused; nothing of it was used
)

// How often to look without being told, and how long to wait after trouble.
const (
	pollEvery  = time.Minute
	retryFirst = 500 * time.Millisecond
	retryLast  = 30 * time.Second
)

// localCredential names what this device signs its requests to the cloud with, sealed for this device alone.
const localCredential = "credential"

// Line keeps one set in step with its cloud. It is safe for concurrent use.
type Line struct {
	Config

	wake    chan struct{} // asks for a look now
	heard   chan struct{} // the cloud says that there is something
	running chan struct{} // holds a value while a run is under way
	told    atomic.Int64  // how often there was reason to look: the cloud told of something that isn't our own
	seen    atomic.Int64  // up to which of these it was looked
	own     atomic.Uint64 // the head that was committed here, until the cloud tells of it

	mu      sync.Mutex // guards the fields below
	cloud   Cloud      // nil without one
	status  Status
	stop    context.CancelFunc
	stopped chan struct{}
}

// Config is what a line works with.
type Config struct {
	Set     *records.Set
	Cloud   Cloud // nil for a set on this computer only
	Now     func() time.Time
	Changed func() // the status has changed
	Pulled  func() // records of other devices were merged
	// Turn reads the statement that began a later epoch, and returns the way into it. The error is a [*ledger.Fault] if
	// no device of this vault can have made it, and ErrSignedOut if this one was shut out by it.
	Turn func(ctx context.Context, s keys.Statement) (*records.Turn, error)
	// Told is called when the cloud tells of something that isn't ours, and when the line comes up; nil does nothing.
	Told func()
	// InStep is called when nothing waits; nil does nothing.
	InStep func(ctx context.Context)
	// Reseals says whether this device is the one that seals old records anew.
	Reseals func() bool
}

// New returns a line that stands still.
func New(cfg Config) *Line {
	l := &Line{
		Config: cfg, cloud: cfg.Cloud, wake: make(chan struct{}, 1), heard: make(chan struct{}, 1),
		running: make(chan struct{}, 1),
	}
	l.doubt()
	return l
}

// Connect gives a set that was on this computer only a cloud. The line stands still then.
func (l *Line) Connect(c Cloud) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.cloud = c
	l.doubt()
}

// KeepCredential keeps what a device signs its requests to the cloud with, for the line of the same set.
func KeepCredential(ctx context.Context, local *records.Local, credential string) error {
	return local.Set(ctx, localCredential, []byte(credential))
}

// Credential returns what this device signs its requests with. The error is ErrSignedOut if there is none.
func (l *Line) Credential(ctx context.Context) (string, error) {
	b, err := l.Set.Local.Get(ctx, localCredential)
	if err == nil && len(b) == 0 {
		err = ErrSignedOut
	}
	return string(b), err
}

// Status returns how the set stands to its cloud.
func (l *Line) Status() Status {
	s := l.state()
	s.Waiting = l.Set.Replica.Waiting()
	return s
}

func (l *Line) state() Status {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.status
}

// setStatus notes a state, and reports whether it is another than before.
func (l *Line) setStatus(s State, detail string) {
	if l.noteStatus(s, detail) {
		l.Changed()
	}
}

func (l *Line) noteStatus(s State, detail string) (changed bool) {
	l.mu.Lock()
	defer l.mu.Unlock()
	changed = l.status.State != s || l.status.Detail != detail
	if changed || s == InStep {
		l.status = Status{State: s, Since: l.Now(), Detail: detail}
	}
	return changed
}

// Nudge asks for a look now.
func (l *Line) Nudge() { ask(l.wake) }

func ask(c chan struct{}) {
	select {
	case c <- struct{}{}:
	default:
	}
}

// Start keeps the set in step from now until [Line.Stop]. Started twice, it runs once.
func (l *Line) Start() {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.stop != nil {
		return
	}
	ctx, cancel := context.WithCancel(context.Background())
	l.stop, l.stopped = cancel, make(chan struct{})
	if l.cloud == nil {
		l.status = Status{}
		go l.tidyOnly(ctx, l.stopped)
		return
	}
	l.status = Status{State: Catching, Since: l.Now()}
	go l.listen(ctx, l.cloud)
	go l.follow(ctx, l.stopped)
}

// Stop ends what [Line.Start] began, and waits for the run under way.
func (l *Line) Stop() {
	stop, stopped := l.stopping()
	if stop == nil {
		return
	}
	stop()
	<-stopped
}

func (l *Line) stopping() (context.CancelFunc, chan struct{}) {
	l.mu.Lock()
	defer l.mu.Unlock()
	stop := l.stop
	l.stop = nil // it can be started again
	return stop, l.stopped
}

// tidyOnly is what a line without a cloud does.
func (l *Line) tidyOnly(ctx context.Context, stopped chan struct{}) {
	defer close(stopped)
	l.removeUnused(ctx)
}

// listen hears of other devices' commits, for as long as ctx lives.
func (l *Line) listen(ctx context.Context, cloud Cloud) {
	for wait := retryFirst; ctx.Err() == nil; wait = min(2*wait, retryLast) {
		credential, err := l.Credential(ctx)
		if err == nil {
			err = cloud.Events(ctx, credential, func(head uint64) {
				wait = retryFirst
				if head > 0 && l.own.CompareAndSwap(head, 0) {
					return
				}
				if l.Told != nil {
					l.Told()
				}
				l.look()
			})
		}
		if err == nil || errors.Is(err, ErrOffline) {
			l.look() // the line broke: see whether the cloud is still there
		}
		sleep(ctx, jitter(wait))
	}
}

// look notes that the cloud may have something that isn't here.
func (l *Line) look() {
	l.doubt()
	ask(l.heard)
}

func (l *Line) doubt() {
	l.own.Store(0)
	l.told.Add(1)
}

// behind says whether the cloud may have something that isn't here.
func (l *Line) behind() bool { return l.told.Load() != l.seen.Load() }

func (l *Line) removeUnused(ctx context.Context) {
	if l.Set.Loaded() == nil {
		l.Set.Files.RemoveUnused(ctx)
	}
}

func (l *Line) follow(ctx context.Context, stopped chan struct{}) {
	defer close(stopped)
	retry, checked := retryFirst, false
	for ctx.Err() == nil {
		began := time.Now() // not the clock on the wall, which may jump
		err := l.Sync(ctx)
		if err == nil && !checked { // once in each opening
			l.removeUnused(ctx)
			err = l.checkFiles(ctx)
			checked = err == nil
		}
		if err == nil {
			err = l.sendFiles(ctx)
		}
		if err == nil {
			err = l.reseal(ctx)
		}
		var fault *ledger.Fault
		next, rest := pollEvery, leastRest
		switch {
		case ctx.Err() != nil:
			return
		case err == nil:
			retry = retryFirst
			l.setStatus(InStep, "")
			if l.Config.InStep != nil {
				l.Config.InStep(ctx)
			}
		case errors.Is(err, ErrCloudFull):
			l.setStatus(InStep, err.Error())
		case errors.Is(err, ErrNoRoom):
			l.setStatus(Full, err.Error())
		case errors.As(err, &fault):
			l.setStatus(Fault, fault.Detail)
			rest, retry = jitter(retry), min(2*retry, pollEvery)
		case errors.Is(err, ErrSignedOut), errors.Is(err, ErrSignIn):
			l.setStatus(Ended, err.Error())
		default:
			l.setStatus(Away, err.Error())
			next, retry = jitter(retry), min(2*retry, retryLast)
		}
		// A run that took long is followed by a rest as long: whatever a cloud sends, it has half of our time at most.
		l.rest(ctx, next, max(rest, min(time.Since(began), pollEvery)))
	}
}

// leastRest is how long a cloud's nudges are waited with after a run.
const leastRest = 20 * time.Millisecond

// rest waits until something is to be done: what happens here counts at once, what the cloud says after a rest.
func (l *Line) rest(ctx context.Context, most, rest time.Duration) {
	end := time.After(most)
	select {
	case <-ctx.Done():
		return
	case <-l.wake:
		return
	case <-end:
		return
	case <-time.After(rest):
	}
	for {
		select {
		case <-ctx.Done():
		case <-l.wake:
		case <-end:
		case <-l.heard:
			if !l.behind() { // it was looked since
				continue
			}
		}
		return
	}
}

func sleep(ctx context.Context, d time.Duration) {
	select {
	case <-ctx.Done():
	case <-time.After(d):
	}
}

func jitter(d time.Duration) time.Duration { return d*3/4 + rand.N(d/2+1) }

// maxTurns bounds how often a run begins again because another device's commit got through.
const maxTurns = 20

// turnWait is how much longer each of these turns is waited with than the one before.
const turnWait = 10 * time.Millisecond

// Sync pulls what others committed, merges it, and commits what waits here. Where the cloud told of nothing, what waits
// is committed first: it is taken only on top of the newest head. A run that is under way is waited for. The error is a
// [*ledger.Fault] if the cloud's answer can't be what the other devices wrote; then nothing of it was used.
func (l *Line) Sync(ctx context.Context) error {
	return l.Alone(ctx, func() error {
		turns := 0
		for {
			more, err := l.syncOnce(ctx, false)
			switch {
			case errors.Is(err, ErrConflict) && turns < maxTurns:
				sleep(ctx, jitter(time.Duration(turns)*turnWait))
				turns++
			case err != nil || !more:
				return err
			}
		}
	})
}

// Alone runs fn while no run is under way. It must not call Sync.
func (l *Line) Alone(ctx context.Context, fn func() error) error {
	select {
	case l.running <- struct{}{}:
	case <-ctx.Done():
		return ctx.Err()
	}
	defer func() { <-l.running }()
	return fn()
}

// syncOnce pulls, unless a commit alone may do, and commits once; with anew also what is sealed under older keys. more
// says that something else is to be done then.
func (l *Line) syncOnce(ctx context.Context, anew bool) (more bool, err error) {
	cloud, credential, err := l.at(ctx)
	if err != nil || cloud == nil {
		return false, err
	}
	defer func() {
		if err != nil {
			l.doubt()
		}
	}()
	if l.Set.Replica.Waiting() == 0 && !anew || l.behind() {
		told := l.told.Load()
		if err := l.pull(ctx, cloud, credential); err != nil {
			return false, err
		}
		l.seen.Store(told)
	}
	commit, err := l.Set.Replica.Prepare(ctx, anew)
	if err != nil || commit == nil {
		return false, err
	}
	l.own.Store(commit.Head.Number)
	if err := cloud.Commit(ctx, credential, Message(commit)); err != nil {
		return false, err
	}
	if err := l.Set.Replica.Committed(ctx, commit); err != nil {
		return false, err
	}
	return l.Set.Replica.Waiting() > 0 || l.behind(), nil
}

// pull brings in what others committed. The error is ErrConflict if it has to be asked for again.
func (l *Line) pull(ctx context.Context, cloud Cloud, credential string) error {
	ring, err := l.Set.Replica.Ring()
	if err != nil {
		return err
	}
	since, err := l.Set.Replica.Since(ring)
	if err != nil {
		return err
	}
	changes, err := cloud.Changes(ctx, credential, since)
	if err != nil {
		return err
	}
	if changes.Epoch < ring.Epoch() {
		const detail = "it shows an older key of the vault, number %d, and this computer has seen %d"
		return &ledger.Fault{Kind: ledger.RolledBack, Detail: fmt.Sprintf(detail, changes.Epoch, ring.Epoch())}
	}
	var turn *records.Turn
	if changes.Epoch > ring.Epoch() {
		statement, err := cloud.Epoch(ctx, credential)
		if err != nil {
			return err
		}
		if turn, err = l.Turn(ctx, statement); err != nil {
			return err
		}
		from, err := l.Set.Replica.Since(turn.Ring)
		if err != nil {
			return err
		}
		if from != since { // a fresh one
			if changes, err = cloud.Changes(ctx, credential, from); err != nil {
				return err
			}
			since = from
		}
		if changes.Epoch != turn.Ring.Epoch() {
			return ErrConflict
		}
	}
	pull := Pulled(since, changes)
	pull.Turn = turn
	stale, err := l.Set.Replica.Merge(ctx, pull)
	if err != nil {
		return err
	}
	if len(changes.Records) > 0 || turn != nil {
		l.Pulled()
	}
	if stale {
		return ErrConflict
	}
	return l.repair(ctx, cloud, credential)
}

// repair fetches records again that are damaged on this device. What can't be fetched stays set aside.
func (l *Line) repair(ctx context.Context, cloud Cloud, credential string) error {
	ids := l.Set.Replica.Damaged()
	if len(ids) == 0 {
		return nil
	}
	got, err := cloud.Records(ctx, credential, ids[:min(len(ids), wire.MaxFetched)])
	if err != nil {
		return err
	}
	list := make([]ledger.SealedRecord, len(got))
	for i, r := range got {
		list[i] = ledger.SealedRecord(r)
	}
	if err := l.Set.Replica.Repair(ctx, list); err != nil {
		return err
	}
	if len(l.Set.Replica.Damaged()) < len(ids) {
		l.Pulled()
		l.Nudge() // for the next ones
	}
	return nil
}

// reseal seals a part of what is under older keys anew and commits it, if that is this device's to do. It goes on in
// the next run.
func (l *Line) reseal(ctx context.Context) error {
	if l.connected() == nil || !l.Reseals() || l.Set.Replica.OldKeys() == 0 {
		return nil
	}
	err := l.Alone(ctx, func() error {
		_, err := l.syncOnce(ctx, true)
		return err
	})
	if err == nil || errors.Is(err, ErrConflict) {
		l.Nudge()
		return nil
	}
	return err
}

// at returns the cloud, if there is one, and what is signed with there.
func (l *Line) at(ctx context.Context) (Cloud, string, error) {
	cloud := l.connected()
	if cloud == nil {
		return nil, "", nil
	}
	credential, err := l.Credential(ctx)
	return cloud, credential, err
}

func (l *Line) connected() Cloud {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.cloud
}

// Pulled is a cloud's answer to what was asked since a head, as a set takes it.
func Pulled(since uint64, c wire.Changes) records.Pull {
	p := records.Pull{Since: since, Latest: c.Latest, Tip: c.Tip}
	for _, h := range c.Heads {
		p.Heads = append(p.Heads, ledger.SealedHead(h))
	}
	for _, r := range c.Records {
		p.Records = append(p.Records, ledger.SealedRecord(r))
	}
	return p
}

// Message is a commit as it travels.
func Message(c *records.Commit) wire.Commit {
	out := wire.Commit{Head: wire.Head(c.Head)}
	if !c.First {
		out.Parent = hex.EncodeToString(c.Parent[:])
	}
	for _, r := range c.Records {
		out.Records = append(out.Records, wire.Record(r))
	}
	return out
}

// sendFiles brings files that the cloud doesn't have yet there.
func (l *Line) sendFiles(ctx context.Context) error {
	cloud, credential, err := l.at(ctx)
	if err != nil || cloud == nil {
		return err
	}
	return l.Set.Files.SendNew(ctx, func(file string, n int, sealed []byte) error {
		return cloud.PutChunk(ctx, credential, file, n, sealed)
	})
}

// checkFiles finds files that the cloud lost chunks of: they are sent again by whoever has them.
func (l *Line) checkFiles(ctx context.Context) error {
	cloud, credential, err := l.at(ctx)
	if err != nil || cloud == nil {
		return err
	}
	list, err := cloud.Files(ctx, credential)
	if err != nil {
		return err
	}
	chunks := make(map[string]int, len(list))
	for _, f := range list {
		chunks[f.ID] = f.Chunks
	}
	return l.Set.Files.NoteLost(ctx, chunks)
}

// FetchChunk returns one sealed chunk of a file.
func (l *Line) FetchChunk(ctx context.Context, file string, n int) ([]byte, error) {
	cloud, credential, err := l.at(ctx)
	if err != nil {
		return nil, err
	}
	if cloud == nil {
		return nil, records.ErrFileBroken
	}
	return cloud.Chunk(ctx, credential, file, n)
}

// DropFile removes all chunks of a file from the cloud, if there is one.
func (l *Line) DropFile(ctx context.Context, file string) error {
	cloud, credential, err := l.at(ctx)
	if err != nil || cloud == nil {
		return err
	}
	return cloud.RemoveFile(ctx, credential, file)
}
