// Package reauth asks for the master password again before the most sensitive acts.
//
// A [Guard] remembers when the master password was last given. Use cases that need it call
// [Guard.Require]; pages that ask before they act call [Guard.Grant], whose answer holds for
// the act itself even if the time lapses between the two.
package reauth

import (
	"errors"
	"sync"
	"time"
)

// Act names an act that the master password may be asked for again.
type Act int

// The acts. All but Show are always asked for.
const (
	Sheet     Act = iota // recovery material
	Purge                // deleting for good
	Export               // and what else comes out in clear
	Settings             // that would ask less often
	Vouch                // that a page which looks like an imitation is right
	Introduce            // another device: asked for just before
	Connect              // a browser: asked for just before
	Trust                // a person's keys: asked for just before
	Show                 // a password, if the user wants that
)

// ErrNeeded is returned for an act that the master password must be given for first.
var ErrNeeded = errors.New("please type your master password again for this")

// atLeast is how long one answer counts where each act asks: long enough for the act itself.
const atLeast = 20 * time.Second

// grantLife is how long an act may follow after it was granted.
const grantLife = 15 * time.Second

// Policy says how the user wants to be asked.
type Policy struct {
	AskToShow bool          // before any password is shown or copied
	For       time.Duration // how long one answer counts; 0 for each time
}

// Guard knows when the master password was last given. It is safe for concurrent use.
type Guard struct {
	now    func() time.Time
	policy func() (Policy, error)

	mu     sync.Mutex // guards given and grants
	given  time.Time
	grants map[Act]time.Time // until when each act may follow
}

// New returns a guard that nobody has shown a master password to. policy is asked at each act.
func New(now func() time.Time, policy func() (Policy, error)) *Guard {
	return &Guard{now: now, policy: policy, grants: map[Act]time.Time{}}
}

// Given notes that the right master password was typed just now.
func (g *Guard) Given() {
	g.mu.Lock()
	defer g.mu.Unlock()
	g.given = g.now()
}

// Require returns ErrNeeded if the act needs the master password first.
func (g *Guard) Require(a Act) error {
	fresh, err := g.fresh(a)
	if err != nil || fresh {
		return err
	}
	g.mu.Lock()
	defer g.mu.Unlock()
	if g.grants[a].After(g.now()) {
		return nil
	}
	return ErrNeeded
}

// Grant is Require for a page that asks before it acts. A grant is not made longer by another.
func (g *Guard) Grant(a Act) error {
	fresh, err := g.fresh(a)
	if err != nil {
		return err
	}
	if !fresh {
		return ErrNeeded
	}
	g.mu.Lock()
	defer g.mu.Unlock()
	g.grants[a] = g.now().Add(grantLife)
	return nil
}

// fresh reports whether the master password was given lately enough for the act.
func (g *Guard) fresh(a Act) (bool, error) {
	p, err := g.policy()
	if err != nil {
		return false, err
	}
	if a == Show && !p.AskToShow {
		return true, nil
	}
	g.mu.Lock()
	defer g.mu.Unlock()
	counts := max(p.For, atLeast)
	if a == Introduce || a == Connect || a == Trust {
		counts = atLeast
	}
	return g.now().Sub(g.given) < counts, nil
}
