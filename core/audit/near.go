package audit

import (
	"strings"
	"unicode"
)

// Nearness is how one password is made out of another one.
type Nearness string

// The ways, as people make a new password out of an old one (common practice).
const (
	NotNear      Nearness = ""
	NearCase     Nearness = "capitals"   // but for capitals
	NearEnd      Nearness = "ending"     // but for digits and signs at either end, such as a year
	NearSwap     Nearness = "swaps"      // but for signs that stand for letters: 0 for o, @ for a
	NearSite     Nearness = "site"       // but for the site's name in it
	NearReversed Nearness = "reversed"   // the other way round
	NearTwice    Nearness = "twice"      // written twice
	NearLetter   Nearness = "one letter" // one letter added, dropped, swapped or another
)

// leastCore is how many characters of a password have to be left of it for the rest to count as a variation.
const leastCore = 4

// Near tells whether two passwords are almost the same, and how. sites are names that may have been put in: of the
// sites that they are for. Two that are the same, or of which one is empty, are not near.
func Near(a, b string, sites ...string) Nearness {
	if a == "" || b == "" || a == b {
		return NotNear
	}
	low, other := strings.ToLower(a), strings.ToLower(b)
	long := min(len([]rune(a)), len([]rune(b))) >= leastCore
	switch {
	case !long:
		return NotNear
	case low == other:
		return NearCase
	}
	bare := func(s string) string { return withoutSites(s, sites) }
	swapped := func(s string) string { return swaps.Replace(core(s)) }
	for _, made := range []struct {
		how  Nearness
		from func(string) string
	}{
		{NearEnd, core},
		{NearSwap, swaps.Replace},
		{NearSwap, swapped},
		{NearSwap, func(s string) string { return swaps.Replace(withoutYear(s)) }},
		{NearSite, bare},
		{NearSite, func(s string) string { return core(bare(s)) }},
		{NearSite, func(s string) string { return swaps.Replace(core(bare(s))) }},
	} {
		if x, y := made.from(low), made.from(other); x == y && len([]rune(x)) >= leastCore {
			return made.how
		}
	}
	if x := core(low); low == reversed(other) || x == reversed(core(other)) && len([]rune(x)) >= leastCore {
		return NearReversed
	}
	if low == other+other || other == low+low {
		return NearTwice
	}
	if len([]rune(low)) >= 6 && len([]rune(other)) >= 6 && oneOff([]rune(low), []rune(other)) {
		return NearLetter
	}
	return NotNear
}

// core is a password without the digits and signs at its ends.
func core(s string) string {
	return strings.TrimFunc(s, func(r rune) bool { return !unicode.IsLetter(r) })
}

// swaps are signs that stand for letters (common practice).
var swaps = strings.NewReplacer(
	"0", "o", "1", "l", "!", "l", "i", "l", "3", "e", "4", "a", "@", "a", "5", "s", "$", "s", "7", "t", "8", "b",
	"9", "g", "6", "g", "€", "e", "£", "l", "|", "l", "(", "c",
)

// withoutYear takes a year, and what separates it from the rest, off either end: where letters next to it are written
// as digits, [core] takes those too.
func withoutYear(s string) string {
	if len(s) >= 4 && isYear(s[:4]) {
		return strings.TrimPrefix(strings.TrimLeft(s[4:], "-_./,"), " ")
	}
	t := strings.TrimRight(s, "!?.")
	if n := len(t) - 4; n >= 0 && isYear(t[n:]) {
		return strings.TrimRight(t[:n], "-_./,# ")
	}
	return s
}

func isYear(s string) bool {
	return (strings.HasPrefix(s, "19") || strings.HasPrefix(s, "20")) && s[2] >= '0' && s[2] <= '9' && s[3] >= '0' &&
		s[3] <= '9'
}

// leastSite is how many letters of a site's name stand for it.
const leastSite = 3

// withoutSites takes the names of sites out of a password, and at its ends what they begin with.
func withoutSites(s string, sites []string) string {
	for _, site := range sites {
		if site = strings.ToLower(site); len(site) < leastSite {
			continue
		}
		if strings.Contains(s, site) {
			s = strings.ReplaceAll(s, site, "")
			continue
		}
		for n := len(site) - 1; n >= leastSite; n-- {
			if bare := strings.TrimSuffix(strings.TrimPrefix(s, site[:n]), site[:n]); bare != s {
				s = bare
				break
			}
		}
	}
	return s
}

func reversed(s string) string {
	r := []rune(s)
	for i, j := 0, len(r)-1; i < j; i, j = i+1, j-1 {
		r[i], r[j] = r[j], r[i]
	}
	return string(r)
}

// oneOff reports whether two texts differ by one letter: added, dropped, another, or two beside each other swapped.
func oneOff(x, y []rune) bool {
	if len(x) > len(y) {
		x, y = y, x
	}
	if len(y)-len(x) > 1 {
		return false
	}
	i := 0
	for i < len(x) && x[i] == y[i] {
		i++
	}
	switch {
	case len(x) < len(y):
		return string(x[i:]) == string(y[i+1:])
	case i+1 < len(x) && x[i] == y[i+1] && x[i+1] == y[i] && string(x[i+2:]) == string(y[i+2:]):
		return true
	}
	return i < len(x) && string(x[i+1:]) == string(y[i+1:])
}
