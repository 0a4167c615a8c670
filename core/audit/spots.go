package audit

import (
	"cmp"
	"math"
	"slices"
	"strings"

	"redlocket/core/secret"
	"redlocket/core/strength"
)

// Fault is what may be wrong with a login's password.
type Fault string

// The faults, the gravest first.
const (
	FaultLeaked  Fault = "leaked"
	FaultExposed Fault = "exposed" // the site lost its accounts while this password was in use
	FaultReused  Fault = "reused"
	FaultWeak    Fault = "weak"
	FaultSimilar Fault = "similar"
	FaultClear   Fault = "http" // sent without encryption
	FaultOld     Fault = "old"
)

// Verdict is how long a password holds.
type Verdict = strength.Verdict

// Finding is a fault of one login, with what it rests on.
type Finding struct {
	Fault   Fault
	With    []string // of FaultReused and FaultSimilar: the other logins, in the order of the list
	How     Nearness // of FaultSimilar: to the first of With
	At      int64    // of FaultLeaked: when that became known; FaultExposed: the day; FaultOld: when it was set
	Host    string   // of FaultClear
	Verdict Verdict  // of FaultWeak
}

// Spot is a login with something wrong.
type Spot struct {
	ID       string
	Worth    Worth
	Findings []Finding // the gravest first
	Rank     float64   // what is lost times how easy it is
}

// WeakBelow is how many guesses a password takes at least that isn't weak: zxcvbn's score 3 begins there ("safely
// unguessable", from its documentation, from memory).
const WeakBelow = 1e8

// Weak judges how long a password holds, and reports whether it is weak. context are words that a thief tries first:
// the user name, the title, the host. It takes some 0.1 ms to 10 ms.
func Weak(p secret.Text, context ...string) (v Verdict, weak bool) {
	v = strength.Judge(p, strength.Leaked, context...)
	return v, v.Guesses < WeakBelow
}

// Weak judges the password of a login. One that isn't there, or has none, isn't weak.
func (s *Survey) Weak(id string) (v Verdict, weak bool) {
	l := s.byID()[id]
	if l == nil || l.key == nil {
		return v, false
	}
	return Weak(l.key.text, l.user, l.title, l.host)
}

// Spots returns the logins with something wrong, the gravest first. weak says what was found out of their strength so
// far, by id; nil leaves that out.
func (s *Survey) Spots(weak func(id string) (Verdict, bool)) (out []Spot) {
	var ids room[string]
	var findings room[Finding]
	for _, l := range s.logins {
		if l.key == nil {
			continue
		}
		list := findings.take(mostFindings)
		if f, ok := s.leaked(l); ok {
			list = append(list, f)
		}
		if l.exposed > 0 {
			list = append(list, Finding{Fault: FaultExposed, At: l.exposed})
		}
		if n := len(l.key.logins); n > 1 {
			if with := l.others(ids.take(n), l.key.logins); len(with) > 0 {
				list = append(list, Finding{Fault: FaultReused, With: ids.keep(with)})
			}
		}
		if weak != nil {
			if v, ok := weak(l.id); ok {
				list = append(list, Finding{Fault: FaultWeak, Verdict: v})
			}
		}
		if len(l.key.near) > 0 {
			if similar := l.similar(&ids); len(similar.With) > 0 {
				list = append(list, similar)
			}
		}
		if l.clear != "" {
			list = append(list, Finding{Fault: FaultClear, Host: l.clear})
		}
		if l.since > 0 && float64(s.o.Now-l.since) > OldAfter {
			list = append(list, Finding{Fault: FaultOld, At: l.since})
		}
		if len(list) > 0 {
			out = append(out, Spot{l.id, l.worth, findings.keep(list), l.worth.points() * ease(list, l.held)})
		}
	}
	slices.SortFunc(out, func(a, b Spot) int {
		return cmp.Or(cmp.Compare(b.Rank, a.Rank), strings.Compare(a.ID, b.ID))
	})
	return out
}

// mostFindings is how many faults there are.
const mostFindings = 7

// similar finds the other accounts with nearly the password of a login.
func (l *login) similar(ids *room[string]) Finding {
	n := 0
	for _, k := range l.key.near {
		n += len(k.key.logins)
	}
	f := Finding{Fault: FaultSimilar}
	with := ids.take(n)
	for _, k := range l.key.near {
		none := len(with) == 0
		with = l.others(with, k.key.logins)
		if none && len(with) > 0 {
			f.How = k.how
		}
	}
	f.With = ids.keep(with)
	return f
}

// room gives many short slices out of few pieces of memory.
type room[T any] struct{ left []T }

// take returns an empty slice with room for n.
func (r *room[T]) take(n int) []T {
	const piece = 2048
	if cap(r.left) < n {
		r.left = make([]T, 0, max(piece, n))
	}
	return r.left[:0:n]
}

// keep returns what was put into the slice that was taken last. What wasn't kept is given out again.
func (r *room[T]) keep(list []T) []T {
	r.left = r.left[len(list):len(list):cap(r.left)]
	return list[:len(list):len(list)]
}

// leaked reports whether the password of a login is in a leak. One that was set after the leak became known was known
// to be bad by then, and is all the same.
func (s *Survey) leaked(l *login) (f Finding, ok bool) {
	if s.o.Leaked == nil {
		return f, false
	}
	at, ok := s.o.Leaked(l.key.text)
	return Finding{Fault: FaultLeaked, At: at}, ok
}

// Reused returns the logins whose password, to the letter, another account has too, in the order of the list.
func (s *Survey) Reused() (ids []string) {
	for _, l := range s.logins {
		if l.key != nil && len(l.others(nil, l.key.logins)) > 0 {
			ids = append(ids, l.id)
		}
	}
	return ids
}

// Foresee says what would be wrong with a password that a login of a domain and a user name would get: whether it is in
// a leak, and which other accounts have it already.
func (s *Survey) Foresee(p secret.Text, domain, user string) (leaked bool, others []string) {
	if s.o.Leaked != nil {
		_, leaked = s.o.Leaked(p)
	}
	if k := s.keys[p]; k != nil {
		l := &login{domain: domain, user: strings.ToLower(strings.TrimSpace(user))}
		others = l.others(nil, k.logins)
	}
	return leaked, others
}

// others appends those of a list that are other accounts. The same one kept twice shares its password with nobody.
func (l *login) others(ids []string, list []*login) []string {
	for _, m := range list {
		if m != l && !(l.place != "" && l.place == m.place && alike(l.user, m.user)) {
			ids = append(ids, m.id)
		}
	}
	return ids
}

// ease says how easily a thief gets into a login, from 0 to 1 (our own judgement, as chances that add up).
func ease(list []Finding, held bool) float64 {
	safe := 1.0
	for _, f := range list {
		p := 0.0
		switch f.Fault {
		case FaultLeaked:
			p = 0.9
		case FaultExposed:
			p = 0.8
		case FaultReused:
			p = 0.5 + min(0.3, 0.03*float64(len(f.With)))
		case FaultWeak:
			p = min(0.9, max(0.2, 1-math.Log10(max(f.Verdict.Guesses, 1))/9))
		case FaultSimilar:
			p = 0.35
		case FaultClear:
			p = 0.3
		case FaultOld:
			p = 0.05
		}
		safe *= 1 - p
	}
	if held {
		return (1 - safe) * 0.3 // the password alone opens nothing
	}
	return 1 - safe
}
