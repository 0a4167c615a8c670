// Package strength says how long a password would hold, and why.
//
// The number of guesses comes from zxcvbn (Wheeler, "zxcvbn: Low-Budget Password
// Strength Estimation", USENIX Security 2016), which knows common passwords,
// names, words, dates, keyboard walks and substitutions. A [Verdict] turns it
// into what is shown: closed links of a chain, a sentence, and reasons.
//
// [CheckMaster] holds a master password against NIST SP 800-63B: a least and a
// large greatest length, no composition rules, and a blocklist. Its least
// length is the one for a password that is used with a second factor: without
// the carried half, a master password opens nothing.
package strength

import (
	"errors"
	"fmt"
	"math"
	"strings"
	"unicode/utf8"

	"github.com/dustin/go-humanize/english"
	"github.com/trustelem/zxcvbn"
	"github.com/trustelem/zxcvbn/match"

	"redlocket/core/secret"
)

// Links is how many links a whole chain has.
const Links = 10

// Rates of guessing, in guesses a second (orders of magnitude, common practice).
const (
	// Stretched is a data centre's rate against Argon2id at 64 MiB.
	Stretched = 1e4
	// Leaked is one graphics card farm's rate against a site's leaked fast hashes.
	Leaked = 1e10
)

// Verdict is how a password is judged.
type Verdict struct {
	Guesses float64
	Closed  int      // links closed, 0 to Links
	Lasts   string   // "about three hours for a patient thief"
	Reasons []string // what makes it easy, most telling first; may be empty
}

// Judge estimates a password against a thief of the given rate. Context are
// words a thief would try first: the user name, the e-mail address, the site.
func Judge(password secret.Text, rate float64, context ...string) Verdict {
	p := password.Reveal()
	if p == "" {
		return Verdict{Lasts: "no password yet"}
	}
	const judged = 100 // zxcvbn's time grows with the square of the length
	if r := []rune(p); len(r) > judged {
		p = string(r[:judged])
	}
	res := zxcvbn.PasswordStrength(p, splitContext(context))
	g := math.Max(res.Guesses, 1)
	v := Verdict{Guesses: g, Lasts: lasts(g / 2 / rate), Reasons: reasons(res.Sequence)}
	full := math.Log10(rate * year * 100) // ten links: a century at the given rate
	v.Closed = min(Links, max(0, int(math.Log10(g)/full*Links)))
	return v
}

func splitContext(context []string) []string {
	var out []string
	for _, c := range context {
		c = strings.ToLower(c)
		out = append(out, c)
		out = append(out, strings.FieldsFunc(c, func(r rune) bool { return strings.ContainsRune("@.-_ /:", r) })...)
	}
	return out
}

const year = 365.25 * 24 * 3600

func lasts(seconds float64) string {
	switch {
	case seconds < 1:
		return "no time at all for a thief"
	case seconds < 60:
		return "seconds for a thief"
	case seconds < 3600:
		return "about " + english.Plural(int(seconds/60+.5), "minute", "") + " for a thief"
	case seconds < 48*3600:
		return "about " + english.Plural(int(seconds/3600+.5), "hour", "") + " for a patient thief"
	case seconds < 60*24*3600:
		return "about " + english.Plural(int(seconds/86400+.5), "day", "") + " for a patient thief"
	case seconds < 2*year:
		return "about " + english.Plural(int(seconds/86400/30.4+.5), "month", "") + " for a patient thief"
	case seconds < 100*year:
		return "about " + english.Plural(int(seconds/year+.5), "year", "") + " for a thief with a data centre"
	case seconds < 1e5*year:
		return "centuries, even for a thief with a data centre"
	}
	return "longer than there have been people, even for a thief with a data centre"
}

func reasons(seq []*match.Match) []string {
	var out []string
	seen := map[string]bool{}
	add := func(s string) {
		if !seen[s] {
			seen[s] = true
			out = append(out, s)
		}
	}
	for _, m := range seq {
		switch m.Pattern {
		case "dictionary":
			switch {
			case m.DictionaryName == "user_inputs":
				add("it contains your name, address or this site")
			case m.DictionaryName == "passwords" && m.Rank <= 1000:
				add("“" + hide(m.Token) + "” is among the thousand most used passwords")
			case m.DictionaryName == "passwords":
				add("“" + hide(m.Token) + "” is on every list of common passwords")
			case strings.Contains(m.DictionaryName, "name"):
				add("a name is tried early")
			case len(seq) < 4:
				add("few words, and common ones")
			}
			if m.L33t {
				add("swapping letters for look-alikes fools nobody")
			}
			if m.Reversed {
				add("backwards is tried too")
			}
		case "spatial":
			add("it follows the keys of a keyboard")
		case "repeat":
			add("it repeats itself")
		case "sequence":
			add("it counts up or down")
		case "date", "regex":
			add("dates and years are tried early")
		}
	}
	return out
}

// hide keeps a reason from showing a password over somebody's shoulder.
func hide(token string) string {
	r := []rune(token)
	if len(r) < 4 {
		return strings.Repeat("•", len(r))
	}
	return string(r[:1]) + strings.Repeat("•", len(r)-2) + string(r[len(r)-1:])
}

// The limits of a master password, in characters (NIST SP 800-63B: at least 8
// with a second factor, at least 64 allowed).
const (
	MinMaster = 8
	MaxMaster = 256
)

// ErrCommon is wrapped by the refusal of a master password that is on a list of
// common or leaked ones, or made of little but such.
var ErrCommon = errors.New("it is among the first that a thief tries")

// CheckMaster reports why a master password is refused, if it is.
func CheckMaster(password secret.Text, context ...string) error {
	p := password.Reveal()
	switch n := utf8.RuneCountInString(p); {
	case n < MinMaster:
		return fmt.Errorf("at least %d characters are needed, and more make it stronger: %d so far", MinMaster, n)
	case n > MaxMaster:
		return fmt.Errorf("at most %d characters are taken", MaxMaster)
	}
	v := Judge(password, Stretched, context...)
	if v.Guesses < 1e6 {
		why := "it is too easy to guess"
		if len(v.Reasons) > 0 {
			why = v.Reasons[0]
		}
		return fmt.Errorf("%w: %s", ErrCommon, why)
	}
	return nil
}
