// Package gate decides in one place whether a vault is open.
//
// What is there only while a vault is open (keys, entries, prompts that wait) stands behind a
// [Gate]. Whoever needs it asks for it with [Gate.Read] or [Gate.Write] and works on it inside
// a function; no caller looks at a flag of its own, and no lock is held after the function,
// however it ends. [Gate.Close] takes the content out: from then on everybody gets [ErrLocked].
//
// Between two such calls anything may happen, a lock too. Tests make it happen: every entry
// through a gate is a step, and a [Steps] function is called before it.
package gate

import (
	"errors"
	"sync"
)

// ErrLocked is returned by everything that needs an open vault, once it is locked.
var ErrLocked = errors.New("the vault is locked")

// Steps is called before each step that a use case takes, without any lock held. It is nil
// but in tests, which lock the vault or run another use case from it.
type Steps func()

// Gate holds content that is there only while a vault is open. It is safe for concurrent use.
type Gate[T any] struct {
	step Steps

	mu      sync.RWMutex // guards content, and all that content points to
	content *T           // nil once closed
}

// New returns an open gate before the content.
func New[T any](content *T, step Steps) *Gate[T] {
	return &Gate[T]{step: step, content: content}
}

// Read runs fn on the content while nobody changes it. fn must not go through the same gate
// again. The error is fn's, or ErrLocked.
func (g *Gate[T]) Read(fn func(*T) error) error {
	g.pause()
	g.mu.RLock()
	defer g.mu.RUnlock()
	if g.content == nil {
		return ErrLocked
	}
	return fn(g.content)
}

// Write runs fn on the content while nobody else reads or changes it. fn must not go through
// the same gate again. The error is fn's, or ErrLocked.
func (g *Gate[T]) Write(fn func(*T) error) error {
	g.pause()
	g.mu.Lock()
	defer g.mu.Unlock()
	if g.content == nil {
		return ErrLocked
	}
	return fn(g.content)
}

// Close takes the content out and returns it, for what has to be kept of it. It returns nil
// if the gate was closed already.
func (g *Gate[T]) Close() *T {
	g.mu.Lock()
	defer g.mu.Unlock()
	content := g.content
	g.content = nil
	return content
}

// Open reports whether the gate is open at this moment. It decides nothing: what follows
// still goes through [Gate.Read] or [Gate.Write].
func (g *Gate[T]) Open() bool {
	g.mu.RLock()
	defer g.mu.RUnlock()
	return g.content != nil
}

func (g *Gate[T]) pause() {
	if g.step != nil {
		g.step()
	}
}
