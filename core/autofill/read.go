package autofill

import (
	"cmp"
	"slices"
	"strings"

	"redlocket/core/secret"
)

// Role is what a field is for.
type Role string

// The roles.
const (
	Username        Role = "username"
	CurrentPassword Role = "current-password"
	NewPassword     Role = "new-password"
	OneTimeCode     Role = "one-time-code"
)

// Kind is what a form is for.
type Kind string

// The kinds.
const (
	SignIn Kind = "sign-in"
	// FirstStep asks for the user name alone; the password comes on a later page.
	FirstStep Kind = "first-step"
	SignUp    Kind = "sign-up"
	Change    Kind = "change"
)

// Reading is what a form was found to be.
type Reading struct {
	Form  int          `json:"form"`
	Kind  Kind         `json:"kind"`
	Roles map[int]Role `json:"roles"` // by field id
}

// Read finds the forms of a snapshot that have to do with logins. Forms that
// don't (search, newsletter, anything else) are left out.
func Read(s Snapshot) []Reading {
	s = s.Bound()
	texts := map[int]Form{}
	for _, f := range s.Forms {
		texts[f.ID] = f
	}
	byForm := map[int][]candidate{}
	var order []int
	for _, f := range s.Fields {
		if !fillable(f) {
			continue
		}
		if _, ok := byForm[f.Form]; !ok {
			order = append(order, f.Form)
		}
		byForm[f.Form] = append(byForm[f.Form], look(f))
	}
	var out []Reading
	for _, id := range order {
		if r, ok := readForm(s, texts[id], byForm[id]); ok {
			r.Form = id
			out = append(out, r)
		}
	}
	return out
}

// candidate is a field with what its texts say.
type candidate struct {
	Field
	text     string // name and label, normal
	name     string
	tokens   []string // of autocomplete
	password bool
}

func look(f Field) candidate {
	return candidate{
		Field: f, text: normal(f.Label, f.Name), name: normal(f.Name),
		tokens:   strings.Fields(strings.ToLower(f.Autocomplete)),
		password: f.Type == "password",
	}
}

// fillable leaves out what no login could need. Fields that a person can't see
// are never filled: a page could be collecting in them.
func fillable(f Field) bool {
	if !f.Visible {
		return false
	}
	switch strings.ToLower(f.Type) {
	case "", "text", "email", "tel", "password", "number", "url":
		return true
	}
	return false
}

func (c candidate) auto(token string) bool { return slices.Contains(c.tokens, token) }

func readForm(s Snapshot, form Form, fields []candidate) (Reading, bool) {
	r := Reading{Roles: map[int]Role{}}
	// The form's own words weigh more than the page's title.
	about := normal(form.Text, form.Name)
	title := normal(s.Title)

	var passwords []candidate
	for _, c := range fields {
		switch {
		case c.auto("one-time-code") || !c.auto("current-password") && !c.auto("new-password") && has(c.text, wordsCode) && !strings.Contains(c.text, "pass word"):
			r.Roles[c.ID] = OneTimeCode
		case c.password:
			passwords = append(passwords, c)
		}
	}
	signUp := has(about, wordsSignUp) || has(title, wordsSignUp) && !has(about, wordsSignIn)
	change := has(about, wordsChange) || has(title, wordsChange) && !has(about, wordsSignIn)

	for i, c := range passwords {
		r.Roles[c.ID] = passwordRole(c, i, len(passwords), signUp, change)
	}
	current, fresh := 0, 0
	for _, c := range passwords {
		if r.Roles[c.ID] == NewPassword {
			fresh++
		} else {
			current++
		}
	}
	switch {
	case fresh > 0 && (current > 0 || change):
		r.Kind = Change
	case fresh > 0:
		r.Kind = SignUp
	case current > 0:
		r.Kind = SignIn
	}

	user, ok := userField(r, fields, passwords)
	switch {
	case ok:
		r.Roles[user.ID] = Username
		if r.Kind == "" {
			if !firstStep(user, about, title, fields) {
				return r, false
			}
			r.Kind = FirstStep
		}
	case r.Kind == "":
		return r, false
	}
	return r, true
}

func passwordRole(c candidate, i, n int, signUp, change bool) Role {
	switch {
	case c.auto("current-password"):
		return CurrentPassword
	case c.auto("new-password"):
		return NewPassword
	case has(c.text, wordsCurrent):
		return CurrentPassword
	case has(c.text, wordsNew):
		return NewPassword
	case n >= 3: // common practice: current, new, new again
		if i == 0 {
			return CurrentPassword
		}
		return NewPassword
	case n == 2:
		if i == 0 && change && !signUp {
			return CurrentPassword
		}
		return NewPassword
	case signUp, change:
		return NewPassword
	}
	return CurrentPassword
}

// userField picks the field for the user name: before the first password, by
// what it says of itself and how near it stands.
func userField(r Reading, fields, passwords []candidate) (candidate, bool) {
	type scored struct {
		candidate
		score int
	}
	var list []scored
	for i, c := range fields {
		if c.password || r.Roles[c.ID] != "" || c.Type == "number" || c.Type == "url" {
			continue
		}
		sc := 0
		switch {
		case c.auto("username"):
			sc = 100
		case has(c.text, wordsSearch) && !has(c.text, wordsUser):
			continue
		case c.auto("email"):
			sc = 60
		case has(c.name, wordsUser), has(c.text, wordsUser):
			sc = 50
		case c.Type == "email", has(c.text, wordsMail):
			sc = 45
		case c.auto("tel"), c.Type == "tel":
			sc = 15
		case len(c.tokens) > 0 && !c.auto("on") && !c.auto("off"):
			continue // some other part of a form: a name, a street
		}
		if len(passwords) > 0 {
			p := slices.IndexFunc(fields, func(f candidate) bool { return f.ID == passwords[0].ID })
			if i < p {
				sc += 10
			}
			if i == p-1 && r.Kind == SignIn {
				sc += 10 // an unnamed box right before the password
			}
		}
		if sc >= 20 {
			list = append(list, scored{c, sc})
		}
	}
	if len(list) == 0 {
		return candidate{}, false
	}
	slices.SortStableFunc(list, func(a, b scored) int { return cmp.Compare(b.score, a.score) })
	return list[0].candidate, true
}

// firstStep tells a sign-in's first page from the many forms that ask for an
// e-mail address.
func firstStep(user candidate, about, title string, fields []candidate) bool {
	if len(fields) > 2 || has(about, wordsSearch) || has(about, wordsSignUp) {
		return false
	}
	if user.auto("username") || user.auto("webauthn") {
		return true
	}
	signIn := has(about, wordsSignIn) || has(title, wordsSignIn)
	return signIn || has(about, wordsNext) && has(user.text, wordsUser)
}

// Fill is one value for one field.
type Fill struct {
	Field int
	Role  Role
	Value secret.Text
}

// Values are what a plan may draw on. Empty ones are not planned.
type Values struct {
	Username, Password, NewPassword secret.Text
}

// Plan says what goes where in one form of the snapshot. A password goes only
// into a password box that the reading gave that role, a user name never into
// one, and nothing into a field that is locked or too short for it. Missed are
// the fields of the reading that get nothing although a value was at hand.
func Plan(s Snapshot, r Reading, v Values) (fills []Fill, missed []int) {
	for _, f := range s.Bound().Fields {
		role, ok := r.Roles[f.ID]
		if !ok || f.Form != r.Form || !fillable(f) {
			continue
		}
		value := map[Role]secret.Text{Username: v.Username, CurrentPassword: v.Password, NewPassword: v.NewPassword}[role]
		switch {
		case value.IsEmpty():
			continue
		case role == Username && f.Locked: // the second page often shows it so
			continue
		case f.Locked, (role == Username) == (f.Type == "password"),
			f.MaxLength > 0 && len([]rune(value.Reveal())) > f.MaxLength:
			missed = append(missed, f.ID)
			continue
		}
		fills = append(fills, Fill{f.ID, role, value})
	}
	return fills, missed
}

// Attempt is what somebody typed and sent.
type Attempt struct {
	Kind     Kind
	Username string
	Password secret.Text
}

// Typed reads an attempt out of a submitted form: values by field id, as the
// extension saw them at the submit. ok is false where it holds nothing worth keeping:
// no password and no user name, or new passwords that differ.
func Typed(s Snapshot, r Reading, values map[int]secret.Text) (a Attempt, ok bool) {
	a.Kind = r.Kind
	var fresh []secret.Text
	for _, f := range s.Bound().Fields {
		v := values[f.ID]
		if f.Form != r.Form || v.IsEmpty() {
			continue
		}
		switch r.Roles[f.ID] {
		case Username:
			a.Username = strings.TrimSpace(v.Reveal())
		case CurrentPassword:
			a.Password = v
		case NewPassword:
			fresh = append(fresh, v)
		}
	}
	for _, p := range fresh {
		if p != fresh[0] {
			return a, false
		}
		a.Password = p
	}
	return a, a.Username != "" || !a.Password.IsEmpty()
}

// Masked reports whether a user name was starred out by the site, so that
// keeping it would keep nothing (mt*****er, ••••77).
func Masked(username string) bool {
	return strings.Contains(username, "**") || strings.ContainsAny(username, "•●∗…") ||
		strings.Contains(username, "*") && strings.Contains(username, "@")
}
