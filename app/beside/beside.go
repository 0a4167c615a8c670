// Package beside is for work that goes on beside the line of a set: it looks when it is asked to, and now and then by
// itself, one run at a time. What is asked for while a run is under way isn't lost.
package beside

import (
	"sync"
	"sync/atomic"
	"time"
)

// every is how often to look without being asked.
const every = time.Minute

// Look says when to look. The zero value has looked never. It is safe for concurrent use.
type Look struct {
	busy atomic.Bool  // a run is under way
	due  atomic.Bool  // somebody asked
	last atomic.Int64 // when a run ended well last, in milliseconds since 1970
}

// Ask has the next run begin as soon as it may.
func (l *Look) Ask() { l.due.Store(true) }

// Begin reports whether a run is to begin now: where it was asked for, or is late, or wanted says so, and none is under
// way. wanted may be nil. Whoever is told so calls [Look.End], with the same moment.
func (l *Look) Begin(now time.Time, wanted func() bool) bool {
	late := now.UnixMilli()-l.last.Load() >= every.Milliseconds()
	asked := l.due.Load() || wanted != nil && wanted()
	if !late && !asked {
		return false
	}
	for !l.busy.CompareAndSwap(false, true) {
		if !asked {
			return false
		}
		l.due.Store(true) // what is wanted came up after the run that is under way had looked
		if l.busy.Load() {
			return false // that one's end sees it
		}
	}
	l.due.Store(false)
	return true
}

// End ends a run. One that failed is tried again the next time; again says that another one was asked for meanwhile.
func (l *Look) End(now time.Time, err error) (again bool) {
	if err == nil {
		l.last.Store(now.UnixMilli())
	}
	l.busy.Store(false)
	again = l.due.Load() // also by whoever found it busy until now
	if err != nil {
		l.due.Store(true)
	}
	return again
}

// Looked is what was looked at and waits for something else: it isn't looked at again while nothing has changed. What
// it waits for is told apart by a text that says how all that stood as the look began, not as it ended: what changes
// meanwhile isn't missed. The zero value has looked at nothing. It is safe for concurrent use.
type Looked struct {
	mu sync.Mutex // guards of
	of map[string]string
}

// At reports whether this was looked at as things stand.
func (l *Looked) At(id, stands string) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	was, ok := l.of[id]
	return ok && was == stands
}

// Note notes that this was looked at, and how things stood.
func (l *Looked) Note(id, stands string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.of == nil {
		l.of = map[string]string{}
	}
	l.of[id] = stands
}
