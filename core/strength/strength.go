// Package strength says how long a password would hold, and why.
//
// The number of guesses comes from zxcvbn (Wheeler, "zxcvbn: Low-Budget Password
// Strength Estimation", USENIX Security 2016), which knows common passwords,
// names, words, dates, keyboard walks and substitutions. A [Verdict] turns it
// into what can be shown: closed links of a chain, how long it holds, and reasons.
//
// [CheckMaster] holds a master password against NIST SP 800-63B: a least and a
// large greatest length, no composition rules, and a blocklist. Its least
// length is the one for a password that is used with a second factor: without
// the carried half, a master password opens nothing.
package strength

import (
	"fmt"
	"math"
	"slices"
	"strings"
	"unicode/utf8"

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
	Closed  int        // links closed, 0 to Links
	Seconds float64    // that it holds on average at the thief's rate
	Reasons []Weakness // what makes it easy, most telling first; may be empty
}

// Empty reports whether no password was judged.
func (v Verdict) Empty() bool { return v.Guesses == 0 }

// Pattern is something that thieves try before they try everything.
type Pattern string

// The patterns.
const (
	Context   Pattern = "context"   // a name, an address, the site
	Top       Pattern = "top"       // one of the thousand most used passwords
	Listed    Pattern = "listed"    // a common password
	Name      Pattern = "name"      // a person's name
	FewWords  Pattern = "few words" // and common ones
	Swapped   Pattern = "swapped"   // letters replaced by look-alikes
	Reversed  Pattern = "reversed"  // written backwards
	Keyboard  Pattern = "keyboard"  // neighbouring keys
	Repeat    Pattern = "repeat"    // it repeats itself
	Sequence  Pattern = "sequence"  // it counts up or down
	Date      Pattern = "date"      // a date or a year
	Guessable Pattern = "guessable" // too few guesses, of no pattern in particular
)

// Weakness is a pattern that was found in a password.
type Weakness struct {
	Pattern Pattern
	Token   string // the part that it was found in, all but its ends covered; of Top and Listed
}

// Judge estimates a password against a thief of the given rate. Context are
// words a thief would try first: the user name, the e-mail address, the site.
func Judge(password secret.Text, rate float64, context ...string) Verdict {
	p := password.Reveal()
	if p == "" {
		return Verdict{}
	}
	const judged = 100 // zxcvbn's time grows with the square of the length
	if r := []rune(p); len(r) > judged {
		p = string(r[:judged])
	}
	res := zxcvbn.PasswordStrength(p, splitContext(context))
	g := math.Max(res.Guesses, 1)
	v := Verdict{Guesses: g, Seconds: g / 2 / rate, Reasons: reasons(res.Sequence)}
	full := math.Log10(rate * Year * 100) // ten links: a century at the given rate
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

// Year is a year in seconds.
const Year = 365.25 * 24 * 3600

func reasons(seq []*match.Match) []Weakness {
	var out []Weakness
	add := func(p Pattern, token string) {
		if w := (Weakness{p, token}); !slices.Contains(out, w) {
			out = append(out, w)
		}
	}
	for _, m := range seq {
		switch m.Pattern {
		case "dictionary":
			switch {
			case m.DictionaryName == "user_inputs":
				add(Context, "")
			case m.DictionaryName == "passwords" && m.Rank <= 1000:
				add(Top, hide(m.Token))
			case m.DictionaryName == "passwords":
				add(Listed, hide(m.Token))
			case strings.Contains(m.DictionaryName, "name"):
				add(Name, "")
			case len(seq) < 4:
				add(FewWords, "")
			}
			if m.L33t {
				add(Swapped, "")
			}
			if m.Reversed {
				add(Reversed, "")
			}
		case "spatial":
			add(Keyboard, "")
		case "repeat":
			add(Repeat, "")
		case "sequence":
			add(Sequence, "")
		case "date", "regex":
			add(Date, "")
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

// LengthError refuses a master password with fewer than [MinMaster] or more than [MaxMaster]
// characters.
type LengthError struct{ Has int }

func (e *LengthError) Error() string {
	return fmt.Sprintf("the master password has %d characters, not %d to %d", e.Has, MinMaster, MaxMaster)
}

// CommonError refuses a master password that is on a list of common or leaked ones, or made
// of little but such.
type CommonError struct{ Weakness }

func (e *CommonError) Error() string {
	return fmt.Sprintf("the master password is too easy to guess: %s", e.Pattern)
}

// CheckMaster reports why a master password is refused, if it is: with a [LengthError] or a
// [CommonError].
func CheckMaster(password secret.Text, context ...string) error {
	p := password.Reveal()
	if n := utf8.RuneCountInString(p); n < MinMaster || n > MaxMaster {
		return &LengthError{n}
	}
	v := Judge(password, Stretched, context...)
	if v.Guesses < 1e6 {
		why := Weakness{Pattern: Guessable}
		if len(v.Reasons) > 0 {
			why = v.Reasons[0]
		}
		return &CommonError{why}
	}
	return nil
}
