package autofill

import (
	"maps"
	"strings"

	"redlocket/core/secret"
)

// Submission is what somebody typed and sent.
type Submission struct {
	Kind     Kind
	Username string
	Named    bool        // the user name stood in this form, and not on a page before
	Nameless bool        // this form asks for none
	Password secret.Text // the new one, where one was chosen
	Current  secret.Text // what was typed as the current one of a change

	// ByTelephone says that the user name is a telephone number that stood where a user name might: one that was typed
	// on a page before is likelier the account's.
	ByTelephone bool
}

// Submitted reads an attempt out of a submitted form: values by field id, as the
// extension saw them at the submit. ok is false where it holds nothing worth keeping:
// no password and no user name, or new passwords that differ.
func Submitted(s Snapshot, r Reading, values map[int]secret.Text) (a Submission, ok bool) {
	a.Kind, a.Nameless = r.Kind, !r.Has(Username)
	r.Roles = byValues(s, r, values)
	var fresh []secret.Text
	for _, f := range s.Bound().Fields {
		v := values[f.ID]
		if f.Form != r.Form || v.IsEmpty() {
			continue
		}
		switch r.Roles[f.ID] {
		case Username:
			a.Username = strings.TrimSpace(v.Reveal())
			a.Named = a.Username != ""
			c := look(f)
			a.ByTelephone = (f.Type == "tel" || c.says(Telephone)) && !c.all.any(saysUser, saysMail)
		case CurrentPassword:
			a.Password, a.Current = v, v
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
	if a.Kind == Change && !a.Current.IsEmpty() && a.Current.Equal(a.Password) {
		a.Kind, a.Current = Reset, secret.Text{} // the new one twice, and not the one before
	}
	return a, a.Username != "" || !a.Password.IsEmpty()
}

// byValues corrects the roles of passwords that were told by their place alone: of three, the two that are the same are
// the new one, wherever they stand.
func byValues(s Snapshot, r Reading, values map[int]secret.Text) map[int]Role {
	var ids []int
	for _, f := range s.Bound().Fields {
		switch {
		case f.Form != r.Form || values[f.ID].IsEmpty() || f.Type != "password":
		case r.Roles[f.ID] == CurrentPassword || r.Roles[f.ID] == NewPassword || r.Roles[f.ID] == "":
			ids = append(ids, f.ID)
		}
	}
	if r.Kind != Change || len(ids) != 3 {
		return r.Roles
	}
	for i, id := range ids {
		a, b := ids[(i+1)%3], ids[(i+2)%3]
		if !values[a].Equal(values[b]) || values[id].Equal(values[a]) {
			continue
		}
		out := maps.Clone(r.Roles)
		out[id], out[a], out[b] = CurrentPassword, NewPassword, NewPassword
		return out
	}
	return r.Roles
}

// Masked reports whether a user name was starred out by the site, so that
// keeping it would keep nothing (mt*****er, ••••77).
func Masked(username string) bool {
	return strings.Contains(username, "**") || strings.ContainsAny(username, "•●∗…") ||
		strings.Contains(username, "*") && strings.Contains(username, "@")
}

// Outcome is what a site made of an attempt.
type Outcome string

// The outcomes.
const (
	Waiting Outcome = "waiting" // nothing can be told yet
	Taken   Outcome = "taken"
	Refused Outcome = "refused"
)

// Judge tells from the page after a submit what the site made of it. A form of the
// attempt's kind that is still there means that it came back, or hasn't gone yet; an
// announcement that something was wrong, or a status of HTTP from 400 on, means no. Of
// an announcement that demands something that holds only where the form came back. A page
// that asks for a one-time code has yet to decide, and so has one that is [Snapshot.Restless]. In doubt the answer is
// Waiting.
func Judge(kind Kind, s Snapshot, readings []Reading) Outcome {
	alerts := lex.read(normal(s.Bound().Alerts))
	if s.Status >= 400 {
		return Refused
	}
	back := false
	for _, r := range readings {
		switch {
		case r.Kind == CodeForm && kind == SignIn:
			return Waiting
		case r.Kind == kind,
			kind == SignIn && (r.Kind == FirstStep || r.Kind == Again && !s.SignedIn),
			kind.Changes() && (r.Kind.Changes() || r.Kind == Again):
			back = true
		}
	}
	switch {
	case alerts.has(saysDone) && (kind == Change || kind == Reset || !back):
		return Taken
	case alerts.has(saysRefused), back && alerts.has(saysDemands):
		return Refused
	case back, s.Restless:
		return Waiting
	}
	return Taken
}

// Repeats reports whether a field of a form asks for a new password that was chosen already: it is empty, and says so
// or stands beside one that is filled.
func Repeats(s Snapshot, r Reading, field int) bool {
	empty, again, filled := false, false, false
	for _, f := range s.Bound().Fields {
		switch {
		case f.Form != r.Form || r.Roles[f.ID] != NewPassword:
		case f.ID == field:
			empty, again = !f.Filled, look(f).all.has(saysAgain)
		default:
			filled = filled || f.Filled
		}
	}
	return empty && (again || filled)
}
