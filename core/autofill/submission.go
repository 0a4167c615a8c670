package autofill

import (
	"strings"

	"redlocket/core/secret"
)

// Submission is what somebody typed and sent.
type Submission struct {
	Kind     Kind
	Username string
	Named    bool        // the user name stood in this form, and not on a page before
	Password secret.Text // the new one, where one was chosen
	Current  secret.Text // what was typed as the current one of a change
}

// Submitted reads an attempt out of a submitted form: values by field id, as the
// extension saw them at the submit. ok is false where it holds nothing worth keeping:
// no password and no user name, or new passwords that differ.
func Submitted(s Snapshot, r Reading, values map[int]secret.Text) (a Submission, ok bool) {
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
			a.Named = a.Username != ""
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
	return a, a.Username != "" || !a.Password.IsEmpty()
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
// that asks for a one-time code has yet to decide. In doubt the answer is Waiting.
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
			kind == SignIn && r.Kind == FirstStep,
			kind == Reset && r.Kind == Change,
			kind == Change && r.Kind == Reset:
			back = true
		}
	}
	switch {
	case alerts.has(saysDone) && (kind == Change || kind == Reset || !back):
		return Taken
	case alerts.has(saysRefused), back && alerts.has(saysDemands):
		return Refused
	case back:
		return Waiting
	case (kind == Change || kind == Reset) && lex.read(normal(s.Title, s.Heads)).has(saysDone):
		return Taken
	}
	return Taken
}
