package wording

import (
	"github.com/dustin/go-humanize/english"

	"redlocket/core/strength"
)

// Lasts says how long a password holds: a clause.
func Lasts(v strength.Verdict) string {
	about := func(unit float64, name, thief string) string {
		return "about " + english.Plural(int(v.Seconds/unit+.5), name, "") + " for " + thief
	}
	const hour, day = 3600, 24 * 3600
	switch s := v.Seconds; {
	case v.Empty():
		return "no password yet"
	case s < 1:
		return "no time at all for a thief"
	case s < 60:
		return "seconds for a thief"
	case s < hour:
		return about(60, "minute", "a thief")
	case s < 2*day:
		return about(hour, "hour", "a patient thief")
	case s < 60*day:
		return about(day, "day", "a patient thief")
	case s < 2*strength.Year:
		return about(30.4*day, "month", "a patient thief")
	case s < 100*strength.Year:
		return about(strength.Year, "year", "a thief with a data centre")
	case s < 1e5*strength.Year:
		return "centuries, even for a thief with a data centre"
	}
	return "longer than there have been people, even for a thief with a data centre"
}

// Weakness says what makes a password easy to guess: a clause. It shows no more of the
// password than the ends of a word.
func Weakness(w strength.Weakness) string {
	switch w.Pattern {
	case strength.Context:
		return "it contains your name, address or this site"
	case strength.Top:
		return "“" + w.Token + "” is among the thousand most used passwords"
	case strength.Listed:
		return "“" + w.Token + "” is on every list of common passwords"
	case strength.Name:
		return "a name is tried early"
	case strength.FewWords:
		return "few words, and common ones"
	case strength.Swapped:
		return "swapping letters for look-alikes fools nobody"
	case strength.Reversed:
		return "backwards is tried too"
	case strength.Keyboard:
		return "it follows the keys of a keyboard"
	case strength.Repeat:
		return "it repeats itself"
	case strength.Sequence:
		return "it counts up or down"
	case strength.Date:
		return "dates and years are tried early"
	}
	return "it is too easy to guess"
}
