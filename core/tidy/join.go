package tidy

import (
	"maps"
	"slices"
	"strings"

	"redlocket/core/vault"
)

// Join returns what the rows of a proposal would be as one login, under the id of the row whose password survives, or
// of the first where none has one. Nothing that was in any row is lost: user names and titles become other names,
// passwords go to the history, all addresses and tags stay, a folder that isn't the one login's becomes a tag, notes
// stand one below the other, and each other value goes to the history where the one login has its own. A row that is
// shared stays, with the password that survives: the others who have it keep it. rows are the entries in the proposal's
// order, at least one; by is the edit. An error is of a value that can't be written, or ErrChanged for rows that are
// shared with different people.
func Join(rows []vault.Entry, s Survives, by vault.Stamp) (vault.Entry, error) {
	survives := max(0, slices.IndexFunc(rows, func(e vault.Entry) bool { return e.ID == s.PasswordOf }))
	at, ok := stays(rows, survives)
	if !ok {
		return vault.Entry{}, ErrChanged
	}
	one := rows[at]
	one.Fields, one.Past = maps.Clone(one.Fields), slices.Clone(one.Past)
	own := vault.View(one)
	j := joining{
		addresses: []vault.Address{}, tags: slices.Clone(own.Tags), aliases: slices.Clone(own.Aliases),
		notes: own.Notes, folder: own.Folder,
	}
	for _, e := range rows {
		j.add(vault.View(e), s)
	}
	for i, e := range rows {
		if i == at {
			continue
		}
		one.Past = vault.JoinPast(one.Past, e.Past)
		for _, f := range slices.Sorted(maps.Keys(e.Fields)) {
			theirs := e.Fields[f]
			ours, had := one.Fields[f]
			switch {
			case f == vault.FieldArchived || f == vault.FieldKind || f == vault.FieldJoined || collected[f] ||
				f.Personal() && f != vault.FieldPinned:
			case !had && f != vault.FieldStaged && f != vault.FieldSent:
				one.Fields[f] = theirs
			case ours.Value != theirs.Value && f != vault.FieldPinned && f != vault.FieldSent:
				if f == vault.FieldPassword && i == survives {
					continue // it becomes the password
				}
				one.Past = vault.JoinPast(one.Past, []vault.Past{
					{Field: past(f), Value: theirs.Value, From: theirs.Stamp, Until: max(by.At, theirs.Stamp.At+1)},
				})
			}
		}
	}
	c := j.changes(s)
	if at != survives {
		c[vault.FieldPassword] = rows[survives].Secret(vault.FieldPassword)
	}
	c[vault.FieldJoined] = max(by.At, one.Modified().At+1) // differs from what it was, whatever the clock says
	return one.With(by, c)
}

// stays is the row that the others are joined into: the one whose password survives, or one that is shared. ok is false
// where rows are shared with different people.
func stays(rows []vault.Entry, survives int) (at int, ok bool) {
	at = survives
	set, _ := rows[at].Share()
	for i, e := range rows {
		switch in, _ := e.Share(); {
		case in == "" || in == set:
		case set != "":
			return at, false
		default:
			at, set = i, in
		}
	}
	return at, true
}

// past is the field under which a value is kept: a password that waited for its site is a password.
func past(f vault.Field) vault.Field {
	if f == vault.FieldStaged {
		return vault.FieldPassword
	}
	return f
}

// collected are the fields of which all rows' values stand in the one login.
var collected = map[vault.Field]bool{
	vault.FieldTitle: true, vault.FieldUsername: true, vault.FieldAddresses: true, vault.FieldNotes: true,
	vault.FieldFolder: true, vault.FieldTags: true, vault.FieldAliases: true,
}

// joining gathers what rows have of the collected fields.
type joining struct {
	addresses     []vault.Address
	tags, aliases []string
	notes, folder string
}

func (j *joining) add(it vault.Item, s Survives) {
	for _, a := range it.Addresses {
		if !slices.ContainsFunc(j.addresses, func(b vault.Address) bool { return a.URL == b.URL }) {
			j.addresses = append(j.addresses, a)
		}
	}
	for _, t := range it.Tags {
		j.tags = addOnce(j.tags, t, "")
	}
	for _, name := range append([]string{it.Title, strings.TrimSpace(it.Username)}, it.Aliases...) {
		if name != s.Username {
			j.aliases = addOnce(j.aliases, name, s.Title)
		}
	}
	if n := strings.TrimSpace(it.Notes); n != "" && !strings.Contains(j.notes, n) {
		j.notes = strings.TrimSpace(j.notes + "\n\n" + n)
	}
	switch {
	case it.Folder == "" || it.Folder == j.folder:
	case j.folder == "":
		j.folder = it.Folder
	default:
		j.tags = addOnce(j.tags, it.Folder, "")
	}
}

func addOnce(list []string, s, but string) []string {
	if s == "" || s == but || slices.Contains(list, s) {
		return list
	}
	return append(list, s)
}

func (j *joining) changes(s Survives) vault.Changes {
	slices.SortStableFunc(j.addresses, func(a, b vault.Address) int { // where one signs in comes first
		return compareBool(b.URL == s.Address, a.URL == s.Address)
	})
	return vault.Changes{
		vault.FieldTitle: s.Title, vault.FieldUsername: s.Username, vault.FieldAddresses: j.addresses,
		vault.FieldTags: j.tags, vault.FieldAliases: j.aliases, vault.FieldNotes: j.notes, vault.FieldFolder: j.folder,
	}
}
