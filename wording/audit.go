package wording

import (
	"fmt"
	"strings"
	"time"

	"redlocket/core/audit"
	"redlocket/core/strength"
)

// Finding is a sentence that says what is wrong with a login's password. title names another login by id; now is in
// milliseconds since 1970.
func Finding(f audit.Finding, title func(id string) string, now int64) string {
	switch f.Fault {
	case audit.FaultLeaked:
		return "This password is in a list of leaked passwords. Thieves try those first."
	case audit.FaultExposed:
		return "The site lost its accounts on " + time.UnixMilli(f.At).UTC().Format("2 January 2006") +
			", and this password may be from before."
	case audit.FaultReused:
		return "The same password opens " + few(f.With, title) + "."
	case audit.FaultSimilar:
		return "Nearly the same as at " + few(f.With, title) + ": " + Nearness(f.How) + "."
	case audit.FaultWeak:
		return "Guessed in " + holds(f.Verdict) + " from what a careless site leaks."
	case audit.FaultClear:
		return "It is sent to " + f.Host + " without encryption: whoever is on the way can read it."
	case audit.FaultOld:
		const year = 365.25 * 24 * 3600 * 1000
		return fmt.Sprintf("Not changed for %d years.", int(float64(now-f.At)/year))
	}
	return string(f.Fault)
}

// Foreseen says calmly what is wrong with a password that is about to be kept; empty if nothing is known to be.
func Foreseen(leaked bool, others int) string {
	also := fmt.Sprintf("%d other logins have it too.", others)
	if others == 1 {
		also = "Another login has it too."
	}
	switch {
	case leaked && others > 0:
		return "This password is in a list of leaked ones, and " + strings.ToLower(also[:1]) + also[1:]
	case leaked:
		return "This password is in a list of leaked ones."
	case others > 0:
		return "This password isn’t this site’s alone: " + strings.ToLower(also[:1]) + also[1:]
	}
	return ""
}

// Nearness says how two passwords differ.
func Nearness(n audit.Nearness) string {
	switch n {
	case audit.NearCase:
		return "they differ by capitals only"
	case audit.NearEnd:
		return "they differ by digits and signs at their ends"
	case audit.NearSwap:
		return "they differ by signs that stand for letters"
	case audit.NearSite:
		return "they differ by the site’s name in them"
	case audit.NearReversed:
		return "one is the other backwards"
	case audit.NearTwice:
		return "one is the other written twice"
	case audit.NearLetter:
		return "they differ by one letter"
	}
	return string(n)
}

// Fault is what a fault is called.
func Fault(f audit.Fault) string {
	switch f {
	case audit.FaultLeaked:
		return "leaked"
	case audit.FaultExposed:
		return "lost by its site"
	case audit.FaultReused:
		return "used more than once"
	case audit.FaultSimilar:
		return "nearly the same"
	case audit.FaultWeak:
		return "easy to guess"
	case audit.FaultClear:
		return "sent without encryption"
	case audit.FaultOld:
		return "old"
	}
	return string(f)
}

// Link is a clause that says why a login falls with another one.
func Link(f audit.Fallen) string {
	switch f.Why {
	case audit.SamePassword:
		return "the same password"
	case audit.NearPassword:
		return "nearly the same password"
	case audit.Resets:
		return "reset by mail"
	}
	return string(f.Why)
}

// few names three at most, and how many more there are.
func few(ids []string, title func(id string) string) string {
	const most = 3
	var names []string
	for _, id := range ids[:min(len(ids), most)] {
		names = append(names, title(id))
	}
	if more := len(ids) - most; more > 0 {
		return strings.Join(names, ", ") + fmt.Sprintf(" and %d more", more)
	}
	if len(names) > 1 {
		return strings.Join(names[:len(names)-1], ", ") + " and " + names[len(names)-1]
	}
	return strings.Join(names, "")
}

// holds is how long a password holds, inside a sentence.
func holds(v strength.Verdict) string {
	switch s := v.Seconds; {
	case s < 1:
		return "less than a second"
	case s < 60:
		return "seconds"
	case s < 3600:
		return "minutes"
	case s < 24*3600:
		return "hours"
	}
	return "days"
}

// Worth is a clause that says what is lost with a login; empty where nothing is known.
func Worth(w audit.Worth) string {
	var out []string
	if name := siteKinds[w.Kind]; name != "" {
		out = append(out, name)
	}
	if w.Cards {
		out = append(out, "cards or codes are kept with it")
	}
	if w.Resets > 0 {
		out = append(out, fmt.Sprintf("it can reset %d of your logins", w.Resets))
	}
	return strings.Join(out, "; ")
}

var siteKinds = map[audit.Kind]string{
	audit.Mail: "a mailbox", audit.Money: "money is at stake", audit.State: "an office of the state",
	audit.Health: "your health is known there", audit.Work: "work or files of yours", audit.Shop: "a shop",
	audit.Talk: "little is at stake",
}
