package app

import (
	"sync"
	"sync/atomic"
)

// Notice tells a listener what happened.
type Notice struct {
	Kind string // NoticeChanged, NoticeStatus or NoticeLocked
}

// The kinds of notices.
const (
	NoticeChanged = "changed"
	NoticeStatus  = "status"
	NoticeLocked  = "locked"
)

// notices tells the pages of a vault what happened in it.
type notices struct {
	version atomic.Int64

	mu        sync.Mutex // guards listeners
	listeners map[chan Notice]bool
}

func newNotices() *notices { return &notices{listeners: map[chan Notice]bool{}} }

func (n *notices) listen() (<-chan Notice, func()) {
	c := make(chan Notice, 8)
	n.mu.Lock()
	defer n.mu.Unlock()
	n.listeners[c] = true
	return c, func() {
		n.mu.Lock()
		defer n.mu.Unlock()
		delete(n.listeners, c)
	}
}

// changed is called in the middle of a change: what is drawn from here on shows it.
func (n *notices) changed() {
	n.version.Add(1)
	go n.tell(NoticeChanged)
}

func (n *notices) tell(kind string) {
	n.version.Add(1)
	n.mu.Lock()
	defer n.mu.Unlock()
	for c := range n.listeners {
		select {
		case c <- Notice{kind}:
		default:
			select { // drop the oldest: the newest must arrive
			case <-c:
			default:
			}
			select {
			case c <- Notice{kind}:
			default:
			}
		}
	}
}
