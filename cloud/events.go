package cloud

import (
	"fmt"
	"net/http"
	"sync"
	"time"
)

// hub tells the devices of an account about commits.
type hub struct {
	mu     sync.Mutex
	subs   map[string]map[chan uint64]string // by account: each stream with its device
	closed bool
}

func newHub() *hub { return &hub{subs: map[string]map[chan uint64]string{}} }

func (h *hub) join(account, device string) chan uint64 {
	h.mu.Lock()
	defer h.mu.Unlock()
	c := make(chan uint64, 1)
	if h.closed {
		close(c)
		return c
	}
	if h.subs[account] == nil {
		h.subs[account] = map[chan uint64]string{}
	}
	h.subs[account][c] = device
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
		if of == device || but != "" && of != but {
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
	h.subs = map[string]map[chan uint64]string{}
}

const heartbeat = 20 * time.Second

// events streams the number of each new head (server-sent events, WHATWG HTML
// section 9.2), with a comment now and then so that a dead line is noticed.
func (s *Server) events(w http.ResponseWriter, r *http.Request) {
	account := of(r).account
	c := s.hub.join(account, of(r).device)
	defer s.hub.leave(account, c)
	if _, _, err := s.store.deviceKey(r.Context(), account, of(r).device); err != nil { // shut out meanwhile
		return
	}
	rc := http.NewResponseController(w)
	w.Header().Set("Content-Type", "text/event-stream")
	_ = rc.SetWriteDeadline(time.Time{})
	fmt.Fprint(w, ": hello\n\n")
	if rc.Flush() != nil {
		return
	}
	tick := time.NewTicker(heartbeat)
	defer tick.Stop()
	for {
		select {
		case n, ok := <-c:
			if !ok {
				return
			}
			fmt.Fprintf(w, "event: head\ndata: %d\n\n", n)
		case <-tick.C:
			fmt.Fprint(w, ": still here\n\n")
		case <-r.Context().Done():
			return
		}
		if rc.Flush() != nil {
			return
		}
	}
}
