package autofill

import (
	"slices"
	"strings"
)

// ofNew are what speaks of a new password.
var ofNew = []class{saysNew, saysAgain, saysChange}

// freshPassword reports whether a password field speaks of a new password.
func (x clue) freshPassword() bool {
	if head, ok := x.beforeAside(); ok {
		return head.any(ofNew...)
	}
	return x.all.any(ofNew...) || x.near.has(saysAgain) && len(x.list) > 1
}

// oldPassword reports whether a password field speaks of the present password.
func (x clue) oldPassword() bool {
	if head, ok := x.beforeAside(); ok {
		return head.has(saysCurrent)
	}
	return x.label.has(saysCurrent) && !x.label.has(saysAgain) || x.name.has(saysCurrent) && !x.freshPassword()
}

// beforeAside is what a label says before an aside. ok is false but where it speaks of both passwords, and of one only
// there: "New password (leave it empty to keep the current one)", "Current password (to confirm that it is you)".
func (x clue) beforeAside() (head said, ok bool) {
	if !x.label.has(saysCurrent) || !x.label.any(ofNew...) {
		return head, false
	}
	label := strings.TrimSpace(x.Label)
	if i := strings.IndexAny(label, "(,.;:–—/"); i > 0 {
		label = label[:i]
	}
	head = lex.read(normal(label))
	return head, head.has(saysCurrent) != head.any(ofNew...)
}

// alone reports whether the field is the only password field of its form.
func (x clue) alone() bool { return len(x.list) == 1 }

// saidPasswords are the rules about what a password field says of itself.
var saidPasswords = ranked(
	rule{
		name: "named a new password only to keep browsers from filling it", role: CurrentPassword,
		when: func(x clue) bool {
			signsIn := x.about.signIn >= 4 && x.about.signUp == 0 && x.about.change == 0
			return x.token == NewPassword && x.alone() && signsIn && !x.freshPassword()
		},
	},
	rule{
		name: "the page's own word: current-password", role: CurrentPassword,
		when: func(x clue) bool { return x.token == CurrentPassword },
	},
	rule{
		name: "the page's own word: new-password", role: NewPassword,
		when: func(x clue) bool { return x.token == NewPassword },
	},
	rule{
		name: "speaks of the present password", role: CurrentPassword,
		when: func(x clue) bool { return x.oldPassword() },
	},
	rule{
		name: "asks for a password again", role: NewPassword,
		when: func(x clue) bool { return x.all.has(saysAgain) && x.i > 0 },
	},
	rule{
		name: "speaks of a new password", role: NewPassword,
		when: func(x clue) bool {
			signsIn := x.alone() && x.about.signIn > max(x.about.signUp, x.about.change)
			return x.freshPassword() && !signsIn
		},
	},
)

// second is the second of two password fields.
func (x clue) second() *candidate { return x.list[1] }

// othersNew counts the other password fields that were found to be for a new password.
func (x clue) othersNew() (n int) {
	for i, c := range x.list {
		if i != x.i && c.role == NewPassword {
			n++
		}
	}
	return n
}

// paired reports whether a field and the one before it are made alike, and unlike the first: by their names, their
// labels, or by what is demanded of both.
func (x clue) paired() bool {
	if x.i == 0 {
		return false
	}
	a, b, first := x.list[x.i-1], x.list[x.i], x.list[0]
	alike := func(a, b *candidate) bool {
		stem := nameStem(a.Name)
		demands := a.MinLength > 0 || a.Pattern != "" || a.Rules != ""
		return stem != "" && stem == nameStem(b.Name) || within(a.Label, b.Label) || within(b.Label, a.Label) ||
			demands && a.MinLength == b.MinLength && a.Pattern == b.Pattern && a.Rules == b.Rules
	}
	return alike(a, b) && (a == first || !alike(first, b))
}

// justPassword is said where a label says password and nothing more.
var justPassword = func() (s said) { s.add(saysPassword); return s }()

// within reports whether all words of a label stand in another one: "new password" in "new password again", in any
// language.
func within(a, b string) bool {
	words, all := strings.Fields(normal(a)), strings.Fields(normal(b))
	if len(words) == 1 && lex.read(normal(a)) == justPassword {
		return false // all of them are called that
	}
	for _, w := range words {
		if !slices.Contains(all, w) {
			return false
		}
	}
	return len(words) > 0
}

// lastOld reports whether a field is the last of three and the two before it are a pair that it doesn't belong to.
func (x clue) lastOld() bool {
	return len(x.list) == 3 && x.i == 2 && x.about.signUp <= x.about.change && !x.paired() &&
		(clue{x.list[1], 1, x.list, x.about, x.details}).paired()
}

// nameStem is a field's name without its numbers and what says that it is a repetition (common practice: pass1 and
// pass2, password and password_confirmation).
func nameStem(name string) string {
	first, _, _ := strings.Cut(name, " ")
	var out []string
	for _, w := range strings.Fields(normal(first)) {
		switch w {
		case "confirm", "confirmation", "confirmed", "repeat", "repeated", "again", "retype", "verify", "check",
			"first", "second":
			continue
		}
		if w = strings.Trim(w, "0123456789"); w != "" {
			out = append(out, w)
		}
	}
	return strings.Join(out, " ")
}

// placedPasswords are the rules about where a password field stands, for those that say nothing.
var placedPasswords = ranked(
	rule{
		name: "the others are a new one and its repetition", role: CurrentPassword,
		when: func(x clue) bool {
			return len(x.list) == 3 && x.othersNew() == 2 && x.about.signUp <= x.about.change
		},
	},
	rule{
		name: "the first is new, and this one is none", role: CurrentPassword,
		when: func(x clue) bool {
			first := x.list[0]
			return len(x.list) == 2 && x.i == 1 && first.label.any(saysNew, saysChange) && x.label == justPassword &&
				x.about.signUp == 0
		},
	},
	rule{
		name: "the last of three, unlike the two before it", role: CurrentPassword,
		when: func(x clue) bool { return x.lastOld() },
	},
	rule{
		name: "the first of three, on a change", role: CurrentPassword, // common practice: current, new, new again
		when: func(x clue) bool {
			last := clue{x.list[len(x.list)-1], len(x.list) - 1, x.list, x.about, x.details}
			lastIsOld := last.role == CurrentPassword || last.lastOld()
			return len(x.list) >= 3 && x.i == 0 && x.about.signUp <= x.about.change && !lastIsOld
		},
	},
	rule{
		// The last of three that say nothing may be the present one: a new password is never filled into it.
		name: "one of three", role: NewPassword,
		when: func(x clue) bool {
			return len(x.list) >= 3 && (x.i < 2 || x.paired() || x.about.signUp > x.about.change || len(x.list) > 3)
		},
	},
	rule{
		name: "the second is it again", role: NewPassword,
		when: func(x clue) bool {
			return len(x.list) == 2 && x.i == 0 && x.second().role == NewPassword &&
				(x.second().all.has(saysAgain) && x.second().token == "" || x.about.signUp > x.about.change)
		},
	},
	rule{
		name: "the second is another, and new", role: CurrentPassword,
		when: func(x clue) bool {
			changes := x.about.change > x.about.signUp && !x.list[len(x.list)-1].all.has(saysPassword)
			return len(x.list) == 2 && x.i == 0 && x.second().role == NewPassword &&
				(!x.second().all.has(saysAgain) || changes)
		},
	},
	rule{
		name: "the first of two, on a change", role: CurrentPassword,
		when: func(x clue) bool {
			return len(x.list) == 2 && x.i == 0 && x.second().role == "" && x.about.change > x.about.signUp &&
				x.about.forgot == 0
		},
	},
	rule{
		name: "one of two", role: NewPassword,
		when: func(x clue) bool { return len(x.list) == 2 },
	},
	rule{
		name: "the form signs up, or sets a password", role: NewPassword,
		when: func(x clue) bool {
			e := x.about
			sets := e.signIn == 0 && (max(e.change, e.forgot) > 0 || x.details >= 2)
			return x.alone() && (e.signUp > e.signIn || sets)
		},
	},
	rule{
		name: "the only password", role: CurrentPassword,
		when: func(x clue) bool { return x.alone() },
	},
)

// passwordRoles tells current and new passwords apart.
func passwordRoles(list []*candidate, e evidence, details int) {
	for i, c := range list {
		decide(saidPasswords, clue{c, i, list, e, details})
	}
	for i, c := range list {
		if c.role == "" {
			decide(placedPasswords, clue{c, i, list, e, details})
		}
	}
}
