package audit

import (
	_ "embed"
	"strings"
	"unicode"

	"redlocket/core/vault"
	"redlocket/core/words"
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

//go:embed sites.tsv
var siteWords string

// siteTerms are the words, with blanks around those that stand alone.
var siteTerms = func() []words.Term {
	list := words.MustParse(siteWords)
	for i, t := range list {
		if !t.Inside {
			list[i].Text = " " + t.Text + " "
		}
	}
	return list
}()

// cardWords are in labels of what pays or lets in (common practice).
var cardWords = []string{"card", "iban", "pin", "cvv", "cvc", "account number", "sort code", "recovery code"}

func worthOf(it vault.Item, host string) Worth {
	text := []rune(strings.ToLower(strings.Join(append([]string{it.Title, host, it.Folder}, it.Tags...), " ")))
	for i, r := range text {
		if !unicode.IsLetter(r) {
			text[i] = ' '
		}
	}
	plain := " " + strings.Join(strings.Fields(string(text)), " ") + " "
	w := Worth{}
	for _, t := range siteTerms {
		if strings.Contains(plain, t.Text) {
			w.Kind = Kind(t.Says)
			break
		}
	}
	for _, l := range it.Labels {
		l = strings.ToLower(l)
		for _, word := range cardWords {
			w.Cards = w.Cards || strings.Contains(l, word)
		}
	}
	return w
}
