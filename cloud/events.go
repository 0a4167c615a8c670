package cloud

import (
	"errors"
	"io"
	"net/http"
	"strconv"
	"sync"
	"time"
)

// hub tells the devices of an account about commits.
type hub struct {
	mu     sync.Mutex
	subs   map[string]map[chan uint64]listener // by account
	joined uint64                              // streams so far
	closed bool
}

// listener is whose a stream is, and which one it was.
type listener struct {
	device string
	number uint64
}

// mostStreams is how many streams a device has at most: a line that broke may be noticed late.
const mostStreams = 3

func newHub() *hub { return &hub{subs: map[string]map[chan uint64]listener{}} }

// join makes a stream. The oldest one of a device that has too many ends.
func (h *hub) join(account, device string) chan uint64 {
	h.mu.Lock()
	defer h.mu.Unlock()
	c := make(chan uint64, 1)
	if h.closed {
		close(c)
		return c
	}
	if h.subs[account] == nil {
		h.subs[account] = map[chan uint64]listener{}
	}
	h.joined++
	h.subs[account][c] = listener{device, h.joined}
	var oldest chan uint64
	n, first := 0, h.joined
	for other, l := range h.subs[account] {
		if l.device != device {
			continue
		}
		n++
		if l.number < first {
			oldest, first = other, l.number
		}
	}
	if n > mostStreams {
		close(oldest)
		delete(h.subs[account], oldest)
	}
	return c
}

func (h *hub) leave(account string, c chan uint64) {
	h.mu.Lock()
	defer h.mu.Unlock()
	delete(h.subs[account], c)
	if len(h.subs[account]) == 0 {
		delete(h.subs, account)
	}
}

// tell passes the newest head on; a slow listener finds only the newest.
func (h *hub) tell(account string, n uint64) {
	h.mu.Lock()
	defer h.mu.Unlock()
	for c := range h.subs[account] {
		select {
		case <-c:
		default:
		}
		c <- n
	}
}

// end ends the streams of a device, or of all devices but one.
func (h *hub) end(account, device, but string) {
	h.mu.Lock()
	defer h.mu.Unlock()
	for c, of := range h.subs[account] {
		if of.device == device || but != "" && of.device != but {
			close(c)
			delete(h.subs[account], c)
		}
	}
}

// count returns how many streams there are.
func (h *hub) count() (n int) {
	h.mu.Lock()
	defer h.mu.Unlock()
	for _, m := range h.subs {
		n += len(m)
	}
	return n
}

// endAll ends all streams of an account.
func (h *hub) endAll(account string) {
	h.mu.Lock()
	defer h.mu.Unlock()
	for c := range h.subs[account] {
		close(c)
	}
	delete(h.subs, account)
}

func (h *hub) close() {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.closed {
		return
	}
	h.closed = true
	for _, m := range h.subs {
		for c := range m {
			close(c)
		}
	}
	h.subs = map[string]map[chan uint64]listener{}
}

const (
	heartbeat  = 20 * time.Second
	streamTime = 30 * time.Second // how long a device may take to take what is written
)

const streamHead = "HTTP/1.1 200 OK\r\nContent-Type: text/event-stream\r\nCache-Control: no-store\r\n" +
	"X-Content-Type-Options: nosniff\r\nConnection: close\r\n\r\n"

// events streams the number of each new head (server-sent events, WHATWG HTML
// section 9.2), with a comment now and then so that a dead line is noticed.
//
// Where it can, it takes the connection from the HTTP server and lets the rest of the request go: a device that listens
// costs little then.
func (s *Server) events(w http.ResponseWriter, r *http.Request) {
	me := of(r)
	c := s.hub.join(me.account, me.device)
	leave := func() { s.hub.leave(me.account, c) }
	if _, _, err := s.store.deviceKey(r.Context(), me.account, me.device); err != nil { // shut out meanwhile
		leave()
		return
	}
	rc := http.NewResponseController(w)
	conn, _, err := rc.Hijack()
	if err != nil { // HTTP/2
		defer leave()
		w.Header().Set("Content-Type", "text/event-stream")
		_ = rc.SetWriteDeadline(time.Time{})
		follow(c, r.Context().Done(), func(text string) error {
			_, err := io.WriteString(w, text)
			return errors.Join(err, rc.Flush())
		})
		return
	}
	_ = conn.SetDeadline(time.Time{}) // a connection without deadlines fails at the next write, too
	go func() {
		defer func() { _ = conn.Close() }()
		defer leave()
		write := func(text string) error {
			_ = conn.SetWriteDeadline(time.Now().Add(streamTime))
			_, err := io.WriteString(conn, text)
			return err
		}
		if write(streamHead) == nil {
			follow(c, nil, write)
		}
	}()
}

// follow writes what a device is told until it is ended, the device has gone, or can't be written to.
func follow(c <-chan uint64, gone <-chan struct{}, write func(string) error) {
	if write(": hello\n\n") != nil {
		return
	}
	tick := time.NewTicker(heartbeat)
	defer tick.Stop()
	for {
		text := ": still here\n\n"
		select {
		case n, ok := <-c:
			if !ok {
				return
			}
			text = "event: head\ndata: " + strconv.FormatUint(n, 10) + "\n\n"
		case <-tick.C:
		case <-gone:
			return
		}
		if write(text) != nil {
			return
		}
	}
}
