package audit

import (
	"slices"
	"strings"
	"unicode"

	"redlocket/core/vault"
)

// Kind is what kind of site a login is of.
type Kind string

// The kinds, by what is lost with them.
const (
	Mail   Kind = "mail"
	Money  Kind = "money"
	State  Kind = "state"
	Health Kind = "health"
	Work   Kind = "work"
	Shop   Kind = "shop"
	Other  Kind = ""
	Talk   Kind = "talk" // forums, clubs, news, games
)

// Worth says what is lost with a login: by its kind of site, what is kept with it, and how much it resets.
type Worth struct {
	Kind   Kind
	Cards  bool // cards, bank details or codes are kept with it
	Resets int  // logins that it can reset, as a mailbox
}

// points weigh a login against another one (our own judgement: what somebody has to do to get over it).
func (w Worth) points() float64 {
	p := 3.0
	switch w.Kind {
	case Mail, Money:
		p = 10
	case State:
		p = 8
	case Health:
		p = 7
	case Work:
		p = 6
	case Shop:
		p = 4
	case Talk:
		p = 1.5
	}
	if w.Cards {
		p += 3
	}
	return p + min(float64(w.Resets)/2, 10)
}

func worthOf(it vault.Item, host string) Worth {
	text := strings.Join(append([]string{it.Title, host, it.Folder}, it.Tags...), " ")
	plain := plainWords(strings.Map(func(r rune) rune {
		if unicode.IsDigit(r) { // bank24
			return ' '
		}
		return r
	}, text))
	w := Worth{}
	for _, t := range siteTerms {
		if strings.Contains(plain, t.Text) {
			w.Kind = Kind(t.Says)
			break
		}
	}
	w.Cards = slices.ContainsFunc(it.Labels, func(label string) bool { return saysOf(label, "card") })
	return w
}
