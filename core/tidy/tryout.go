package tidy

import (
	"cmp"
	"encoding/json"
	"slices"

	"redlocket/core/secret"
	"redlocket/core/vault"
)

// Trying is the verdict of a try-out that is under way: the rows' passwords are tried at the site, one after the other.
const Trying Verdict = "trying"

// TryOut is a try-out as it is kept in the vault.
type TryOut struct {
	ID      string   // of its entry
	IDs     []string // of the rows
	Tries   []Try
	Allowed int // refusals that its user has allowed beyond the first few
}

// Try is one password that was tried.
type Try struct {
	ID    string `json:"id"` // of the row
	At    int64  `json:"at"` // milliseconds since 1970
	Taken bool   `json:"taken,omitempty"`
}

const (
	fieldTries   vault.Field = "tries"
	fieldAllowed vault.Field = "allowed"
)

// MostRefusals is after how many refusals of one account a try-out stops: sites lock accounts after a few (common
// practice: five or ten).
const MostRefusals = 3

// NewTryOut returns the entry of a try-out of rows.
func NewTryOut(id string, rows []vault.Entry, by vault.Stamp) (vault.Entry, error) {
	write, err := Settle(id, id, Trying, rows, Survives{}, by)
	if err != nil {
		return vault.Entry{}, err
	}
	return write[0], nil
}

// TryOuts reads the try-outs that are under way.
func TryOuts(entries []vault.Entry) (out []TryOut) {
	for _, e := range entries {
		d, ok := decisionOf(e)
		if !ok || d.Verdict != Trying || d.Undone != 0 {
			continue
		}
		t := TryOut{ID: d.ID, IDs: d.IDs}
		for f, to := range map[vault.Field]any{fieldTries: &t.Tries, fieldAllowed: &t.Allowed} {
			if r, there := e.Fields[f]; there {
				_ = json.Unmarshal([]byte(r.Value.Reveal()), to) // of another version: nothing was tried
			}
		}
		out = append(out, t)
	}
	return out
}

// Write returns the try-out's entry with what was tried.
func (t TryOut) Write(e vault.Entry, by vault.Stamp) (vault.Entry, error) {
	return e.With(by, vault.Changes{fieldTries: t.Tries, fieldAllowed: t.Allowed})
}

// Tried returns what the site made of a row's password; ok is false if it wasn't tried.
func (t TryOut) Tried(id string) (try Try, ok bool) {
	i := slices.IndexFunc(t.Tries, func(o Try) bool { return o.ID == id })
	if i < 0 {
		return try, false
	}
	return t.Tries[i], true
}

// Candidates are the rows whose passwords are tried, in order: what the proposal has, then what was used or changed
// last. One password under one name is tried once.
func Candidates(rows []vault.Entry, s Survives, used func(id string) int64) []vault.Entry {
	var out []vault.Entry
	seen := map[string]bool{}
	list := slices.Clone(rows)
	slices.SortStableFunc(list, func(a, b vault.Entry) int {
		return cmp.Or(
			-compareBool(a.ID == s.PasswordOf, b.ID == s.PasswordOf), cmp.Compare(used(b.ID), used(a.ID)),
			cmp.Compare(b.Fields[vault.FieldPassword].Stamp.At, a.Fields[vault.FieldPassword].Stamp.At),
		)
	})
	for _, e := range list {
		p := e.SignsInWith()
		key := fold(NameToTry(e, s)) + " " + p.Reveal()
		if p.IsEmpty() || seen[key] {
			continue
		}
		seen[key] = true
		out = append(out, e)
	}
	return out
}

// NameToTry is the user name that a row is tried with: its own, or what the proposal has where that isn't one.
func NameToTry(e vault.Entry, s Survives) string {
	if name := e.Text(vault.FieldUsername); !isVague(fold(name)) {
		return name
	}
	return s.Username
}

// Next returns the row to try now. ok is false where none is left. stopped says that its account was refused too often
// for another try without asking.
func (t TryOut) Next(candidates []vault.Entry, s Survives) (e vault.Entry, ok, stopped bool) {
	refused := map[string]int{}
	for _, c := range candidates {
		if try, tried := t.Tried(c.ID); tried && !try.Taken {
			refused[fold(NameToTry(c, s))]++
		}
	}
	for _, c := range candidates {
		if _, tried := t.Tried(c.ID); !tried {
			return c, true, refused[fold(NameToTry(c, s))] >= MostRefusals+t.Allowed
		}
	}
	return e, false, false
}

// Means reports whether a sign-in that a site judged is the one of a row: with its password, and under its name.
func Means(e vault.Entry, s Survives, username string, password secret.Text) bool {
	return !password.IsEmpty() && e.SignsInWith().Equal(password) &&
		(username == "" || fold(username) == fold(NameToTry(e, s)))
}
