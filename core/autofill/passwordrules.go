package autofill

// freshPassword reports whether a password field speaks of a new password.
func (x clue) freshPassword() bool {
	return x.all.any(saysNew, saysAgain, saysChange) || x.near.has(saysAgain) && len(x.list) > 1
}

// oldPassword reports whether a password field speaks of the present password.
func (x clue) oldPassword() bool {
	return x.label.has(saysCurrent) || x.name.has(saysCurrent) && !x.freshPassword()
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
		when: func(x clue) bool { return x.oldPassword() && !x.label.has(saysAgain) },
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

// placedPasswords are the rules about where a password field stands, for those that say nothing.
var placedPasswords = ranked(
	rule{
		name: "the first of three, on a change", role: CurrentPassword, // common practice: current, new, new again
		when: func(x clue) bool { return len(x.list) >= 3 && x.i == 0 && x.about.signUp <= x.about.change },
	},
	rule{
		name: "one of three", role: NewPassword,
		when: func(x clue) bool { return len(x.list) >= 3 },
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
