package audit

import (
	"cmp"
	"slices"
	"strings"
)

// Link says why one login falls with another.
type Link string

// The links.
const (
	SamePassword Link = "same password"
	NearPassword Link = "similar password"
	Resets       Link = "resets" // the other is a mailbox that it can be reset with
)

// Fallen is a login that falls with another one.
type Fallen struct {
	ID   string
	Step int      // 1 for what falls at once
	From string   // the login that it falls with
	Why  Link     //
	How  Nearness // of NearPassword
	// Known reports whether the thief learns its password. One that was reset has a password of the thief's: what
	// shares the old one with it doesn't fall with it.
	Known bool
}

// Reach is what falls with one login.
type Reach struct {
	ID   string
	Fell []Fallen // the nearest first
	// Held are those that would fall, but for a second factor that no mailbox has. The chain ends at them.
	Held []Fallen
}

// Reach returns what falls if the password of a login is known to a thief. The reach of a login that isn't there is
// empty.
func (s *Survey) Reach(id string) Reach {
	out := Reach{ID: id}
	start := s.byID()[id]
	if start == nil {
		return out
	}
	for l, f := range s.walkFrom(start).at {
		if l.held {
			out.Held = append(out.Held, *f)
		} else {
			out.Fell = append(out.Fell, *f)
		}
	}
	nearest := func(a, b Fallen) int { return cmp.Or(cmp.Compare(a.Step, b.Step), strings.Compare(a.ID, b.ID)) }
	slices.SortFunc(out.Fell, nearest)
	slices.SortFunc(out.Held, nearest)
	return out
}

// walkFrom goes to everything that falls with a login, and to what would but for a second factor.
func (s *Survey) walkFrom(start *login) *walk {
	w := &walk{s: s, at: map[*login]*Fallen{}, start: start}
	w.spread(start, 0, start.key != nil)
	for len(w.queue) > 0 {
		next := w.queue[0]
		w.queue = w.queue[1:]
		w.spread(next.login, next.step, next.known)
	}
	return w
}

// walk goes from login to login, step by step.
type walk struct {
	s     *Survey
	start *login
	at    map[*login]*Fallen
	queue []visit
}

type visit struct {
	login *login
	step  int
	known bool
}

// spread finds what falls with a login.
func (w *walk) spread(l *login, step int, known bool) {
	if known && l.key != nil {
		for _, m := range l.key.logins {
			w.reach(m, Fallen{Step: step + 1, From: l.id, Why: SamePassword, Known: true})
		}
		for _, n := range l.key.near {
			for _, m := range n.key.logins {
				w.reach(m, Fallen{Step: step + 1, From: l.id, Why: NearPassword, How: n.how, Known: true})
			}
		}
	}
	if l.mailbox != "" && !l.held {
		for _, m := range w.s.resets[l.mailbox] {
			w.reach(m, Fallen{Step: step + 1, From: l.id, Why: Resets})
		}
	}
}

func (w *walk) reach(l *login, f Fallen) {
	if l == w.start {
		return
	}
	f.ID = l.id
	was := w.at[l]
	switch {
	case was == nil:
		w.at[l] = &f
	case f.Known && !was.Known:
		was.Known = true // its password turns up after all
	default:
		return
	}
	if !l.held {
		w.queue = append(w.queue, visit{l, f.Step, f.Known})
	}
}

// Chain returns the way to a login that falls, from the first step to it; nil if it doesn't fall.
func (r Reach) Chain(id string) (out []Fallen) {
	at := map[string]Fallen{}
	for _, f := range append(slices.Clone(r.Held), r.Fell...) {
		at[f.ID] = f
	}
	for f, ok := at[id]; ok && len(out) <= len(at); f, ok = at[f.From] {
		out = append(out, f)
	}
	slices.Reverse(out)
	return out
}

// Far is how far a login reaches.
type Far struct {
	ID    string
	Falls int
}

// Furthest returns the logins that reach others, the furthest first, as many as most says; 0 is all.
func (s *Survey) Furthest(most int) []Far {
	far := s.far()
	if most > 0 {
		return far[:min(most, len(far))]
	}
	return far
}

func (s *Survey) furthest() (out []Far) {
	type alike struct { // these reach the same, and each other
		key     *key
		mailbox string
		held    bool
	}
	known := map[alike]int{}
	for _, l := range s.logins {
		a := alike{l.key, l.mailbox, l.held}
		n, ok := known[a]
		if !ok || l.held {
			n = 0
			for m := range s.walkFrom(l).at {
				if !m.held {
					n++
				}
			}
			known[a] = n
		}
		if n > 0 {
			out = append(out, Far{l.id, n})
		}
	}
	slices.SortStableFunc(out, func(a, b Far) int {
		return cmp.Or(cmp.Compare(b.Falls, a.Falls),
			cmp.Compare(s.byID()[b.ID].worth.points(), s.byID()[a.ID].worth.points()))
	})
	return out
}

// Mailboxes returns the logins that are mailboxes, with the logins that each can reset.
func (s *Survey) Mailboxes() map[string][]string {
	out := map[string][]string{}
	for _, l := range s.logins {
		if l.mailbox == "" {
			continue
		}
		out[l.id] = []string{}
		for _, m := range s.resets[l.mailbox] {
			if m != l {
				out[l.id] = append(out[l.id], m.id)
			}
		}
	}
	return out
}

// MailboxAddresses returns the addresses whose mail can be read with a login of the list, in order.
func (s *Survey) MailboxAddresses() (out []string) {
	for _, l := range s.logins {
		if l.mailbox != "" && !slices.Contains(out, l.mailbox) {
			out = append(out, l.mailbox)
		}
	}
	slices.Sort(out)
	return out
}

// ResetBy returns the addresses of the mailboxes that can reset a login.
func (s *Survey) ResetBy(id string) (out []string) {
	l := s.byID()[id]
	for _, a := range s.MailboxAddresses() {
		if slices.Contains(s.resets[a], l) {
			out = append(out, a)
		}
	}
	return out
}

// Mailbox returns the address whose mail is read with a login; empty if it is none.
func (s *Survey) Mailbox(id string) string {
	if l := s.byID()[id]; l != nil {
		return l.mailbox
	}
	return ""
}
