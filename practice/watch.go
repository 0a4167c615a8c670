package practice

import (
	"crypto/rand"
	"encoding/json"
	"errors"
	"io"
	"maps"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"

	"redlocket/core/leaks"
	"redlocket/core/secret"
)

// watchHouse is a stand-in for a service that knows what leaked. It answers ranges of leaked passwords and oblivious
// lookups (package leaks), and has a page on which somebody can let something leak.
type watchHouse struct {
	secret []byte

	mu        sync.Mutex
	passwords map[leaks.Hash]int64
	known     map[leaks.Thing][]leaks.Leak
	service   *leaks.Service // of known; nil after a change
	asked     int            // requests since the start
}

func newWatchHouse() *watchHouse {
	h := &watchHouse{
		secret: make([]byte, 32), passwords: map[leaks.Hash]int64{}, known: map[leaks.Thing][]leaks.Leak{},
	}
	_, _ = rand.Read(h.secret) // never fails
	return h
}

// LetLeak has the town's watch house know of leaks: a list of passwords, and things that are in leaks.
func (t *Town) LetLeak(passwords io.Reader, known map[leaks.Thing][]leaks.Leak) error {
	h := t.watch
	h.mu.Lock()
	defer h.mu.Unlock()
	for thing, list := range known {
		h.known[thing] = append(h.known[thing], list...)
	}
	h.service = nil
	_, err := leaks.Scan(passwords, func(p leaks.Hash, seen int64) error { h.passwords[p] += seen; return nil })
	return err
}

// lookups returns the service as it is now.
func (h *watchHouse) lookups() (s *leaks.Service, err error) {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.asked++
	if h.service == nil {
		h.service, err = leaks.NewService(h.secret, h.known, rand.Reader)
	}
	return h.service, err
}

func (h *watchHouse) counted() (passwords map[leaks.Hash]int64) {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.asked++
	return maps.Clone(h.passwords)
}

// leakView is the page of the watch house.
type leakView struct {
	page
	Passwords, Things, Asked int
	Leaks                    []leaks.Leak
	Today                    string
}

func (h *watchHouse) view(p page) leakView {
	h.mu.Lock()
	defer h.mu.Unlock()
	v := leakView{page: p, Passwords: len(h.passwords), Things: len(h.known), Asked: h.asked}
	v.Today = time.Now().Format(time.DateOnly)
	for _, list := range h.known {
		for _, l := range list {
			l.What = ""
			if !slices.Contains(v.Leaks, l) {
				v.Leaks = append(v.Leaks, l)
			}
		}
	}
	slices.SortFunc(v.Leaks, func(a, b leaks.Leak) int {
		return strings.Compare(b.Day+b.Name, a.Day+a.Name)
	})
	return v
}

// watchHouse answers what is asked of leaks.localhost.
func (t *Town) watchHouse(w http.ResponseWriter, r *http.Request, p page) {
	h := t.watch
	prefix, ranged := strings.CutPrefix(r.URL.Path, "/range/")
	switch {
	case r.URL.Path == "/" && r.Method == http.MethodGet:
		t.draw(w, http.StatusOK, "watch-house", h.view(p))
	case r.URL.Path == "/" && r.Method == http.MethodPost:
		if err := h.add(r); err != nil {
			p.Error = err.Error()
			t.draw(w, http.StatusUnprocessableEntity, "watch-house", h.view(p))
			return
		}
		http.Redirect(w, r, "/", http.StatusSeeOther)
	case ranged && r.Method == http.MethodGet && isPrefix(prefix):
		w.Header().Set("Content-Type", "text/plain; charset=utf-8")
		_ = leaks.WriteRange(w, prefix, h.counted(), rand.Reader) // the reader is gone if this fails
	case r.URL.Path == "/key" && r.Method == http.MethodGet:
		s, err := h.lookups()
		if err == nil {
			var key leaks.ServiceKey
			if key.Key, err = s.Key(); err == nil {
				answerJSON(w, key)
				return
			}
		}
		http.Error(w, "no key", http.StatusInternalServerError)
	case r.URL.Path == "/lookup" && r.Method == http.MethodPost:
		h.lookUp(w, r)
	default:
		t.draw(w, http.StatusNotFound, "nowhere", p)
	}
}

func (h *watchHouse) lookUp(w http.ResponseWriter, r *http.Request) {
	var req leaks.Request
	s, err := h.lookups()
	if err == nil {
		err = json.NewDecoder(r.Body).Decode(&req)
	}
	var a leaks.Answer
	if err == nil {
		a, err = s.Answer(req)
	}
	if err != nil {
		http.Error(w, "that is no lookup", http.StatusBadRequest)
		return
	}
	answerJSON(w, a)
}

func isPrefix(s string) bool {
	return len(s) == leaks.PrefixDigits && strings.Trim(s, "0123456789ABCDEF") == ""
}

func answerJSON(w http.ResponseWriter, v any) {
	w.Header().Set("Content-Type", "application/json")
	_ = json.NewEncoder(w).Encode(v) // the reader is gone if this fails
}

// add lets something leak.
func (h *watchHouse) add(r *http.Request) error {
	kind, text := leaks.Kind(r.PostFormValue("kind")), r.PostFormValue("text")
	if text == "" {
		return errors.New("write what leaks")
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	if kind == "password" {
		h.passwords[leaks.HashOf(secret.New(text))]++
		return nil
	}
	thing, ok := leaks.NewThing(kind, text)
	if !ok || kind != leaks.KindMail && kind != leaks.KindUser && kind != leaks.KindCard {
		return errors.New("that is none of the kind you chose")
	}
	l := leaks.Leak{Name: r.PostFormValue("name"), Site: r.PostFormValue("site"), Day: r.PostFormValue("day")}
	if _, err := time.Parse(time.DateOnly, l.Day); err != nil || l.Name == "" || len(l.Name)+len(l.Site) > 120 {
		return errors.New("write who lost it, and on which day")
	}
	h.known[thing] = append(h.known[thing], l)
	h.service = nil
	return nil
}
