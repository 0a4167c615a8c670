package vault

import (
	"slices"
	"strings"

	"redlocket/core/secret"
)

// Match says how closely a page's address must agree with a kept one.
// The zero value is the site as a whole.
type Match string

// The match rules.
const (
	MatchSite Match = ""     // any page of the registrable domain
	MatchHost Match = "host" // this host and port only
	MatchPage Match = "page" // this host, port and path only
)

// Address is where a login works.
type Address struct {
	URL   string `json:"url"`
	Match Match  `json:"match,omitempty"`
}

// Item is what a person filed, without its secrets.
type Item struct {
	ID          string
	Type        Type
	Title       string
	Username    string
	Subtitle    string // what tells it from others like it: the user name, a card's last digits
	Addresses   []Address
	Aliases     []string // other names it goes by
	Notes       string
	Folder      string
	Book        string // id of the book that it is in; empty in the owner's own
	Tags        []string
	Labels      []string // names of custom fields and files
	Expires     string   // a day or month that is warned of: 2006-01-02 or 2006-01
	Pinned      bool
	Archived    bool
	Undecided   bool // two devices set different passwords; see Entry.Rivals
	HasPassword bool
	Staged      bool   // a new password waits for the site to take it
	Sent        bool   // and was sent to it, and not refused
	App         string // the program it belongs to
	HasCode     bool   // one-time codes
	Files       int
	FillOnly    bool  // it is shared with the owner to be filled in, and not shown
	Covered     bool  // it is in the covered part: the other passphrase doesn't show it
	Created     int64 // milliseconds since 1970
	Modified    Stamp
}

// SigningUp reports a login that was made for signing up, and that its site has yet to take:
// it has no other password than the one that waits.
func (it Item) SigningUp() bool { return it.Staged && !it.HasPassword }

// SignsInWith is the password to try first: the entry's own or, where it has none yet, the
// one that waits for the site to take it.
func (e Entry) SignsInWith() secret.Text {
	if p := e.Secret(FieldPassword); !p.IsEmpty() {
		return p
	}
	return e.Secret(FieldStaged)
}

// View reads the item out of an entry.
func View(e Entry) Item {
	it := Item{
		ID: e.ID, Type: e.Kind(), Created: e.Created,
		Title: e.Text(FieldTitle), Username: e.Text(FieldUsername),
		Notes: e.Text(FieldNotes), Folder: e.Text(FieldFolder), Book: e.Text(FieldBook),
		Archived: e.Archived(), Undecided: len(e.Conflicts()) > 0,
		HasPassword: e.Text(
			FieldPassword,
		) != "", HasCode: e.Text(FieldSetup) != "", Staged: e.Text(FieldStaged) != "", App: e.Text(FieldApp),
		Modified: e.Modified(),
	}
	var ok bool
	if it.Addresses, ok = scanAddresses(e.Fields[FieldAddresses].Value.Reveal()); !ok {
		it.Addresses = nil
		e.read(FieldAddresses, &it.Addresses)
	}
	for f, list := range map[Field]*[]string{FieldTags: &it.Tags, FieldAliases: &it.Aliases} {
		if r, ok := e.Fields[f]; ok && r.Value.Reveal() != "[]" {
			e.read(f, list)
		}
	}
	e.read(FieldPinned, &it.Pinned)
	e.read(FieldSent, &it.Sent)
	it.Sent = it.Sent && it.Staged
	for f := range e.Fields {
		switch {
		case strings.HasPrefix(string(f), ownPrefix):
			var w customFieldJSON
			if e.read(f, &w); w.Label != "" {
				it.Labels = append(it.Labels, w.Label)
			}
		case strings.HasPrefix(string(f), filePrefix):
			if file, ok := e.file(f); ok {
				it.Labels, it.Files = append(it.Labels, file.Name), it.Files+1
			}
		}
	}
	slices.Sort(it.Labels) // fields have no order
	it.Subtitle = it.Username
	if it.Type != TypeLogin {
		it.describe(e)
	}
	return it
}

// describe fills in what only other kinds than logins have.
func (it *Item) describe(e Entry) {
	k, _ := KindOf(it.Type)
	for _, s := range k.Specs {
		if s.Warns {
			it.Expires = e.Text(s.Field)
		}
	}
	join := func(parts ...string) {
		var out []string
		for _, p := range parts {
			if p != "" {
				out = append(out, p)
			}
		}
		it.Subtitle = strings.Join(out, " · ")
	}
	switch it.Type {
	case TypeApp:
		join(it.Username, e.Text(FieldApp))
	case TypeCard:
		join(Tail(e.Text(FieldNumber)), e.Text(FieldHolder))
	case TypeBank:
		join(Tail(e.Text(FieldNumber)), e.Text(FieldHolder), e.Text(FieldBank))
	case TypePerson:
		join(strings.TrimSpace(e.Text("given-name")+" "+e.Text("family-name")), e.Text("address-level2"))
	case TypePaper:
		join(k.ChoiceName(FieldPaper, e.Text(FieldPaper)), e.Text(FieldHolder))
	case TypeMembership:
		join(e.Text(FieldHolder), e.Text(FieldNumber))
	case TypeWiFi:
		join(e.Text(FieldSSID))
	case TypeSoftware:
		join(e.Text(FieldVersion), e.Text(FieldHolder))
	}
}

// ChoiceName returns what a choice is called.
func (k Kind) ChoiceName(f Field, value string) string {
	s, _ := k.Spec(f)
	for _, c := range s.Choices {
		if c.Value == value {
			return c.Name
		}
	}
	return ""
}

// Tail returns a number as it is shown before one asks for all of it: its last
// four characters, after dots. Of one shorter than nine it shows two.
func Tail(number string) string {
	r := []rune(strings.ReplaceAll(number, " ", ""))
	n := 4
	if len(r) < 9 {
		n = 2
	}
	if len(r) <= n {
		return ""
	}
	return "•••• " + string(r[len(r)-n:])
}

// IsAccount reports whether items of the type sign in somewhere: at a site or in a program.
func (t Type) IsAccount() bool { return t == TypeLogin || t == TypeApp }

// Kind is the entry's type, or what the user made of it since.
func (e Entry) Kind() Type {
	if k := e.Text(FieldKind); k != "" {
		return Type(k)
	}
	return e.Type
}

// IsItem reports whether a person filed the entry, and it wasn't deleted for good.
func (e Entry) IsItem() bool {
	_, ok := KindOf(e.Kind())
	return ok && !e.Purged()
}

// Draft is a login that isn't saved yet.
type Draft struct {
	Title     string
	Username  string
	Password  secret.Text
	Addresses []Address
	Notes     string
	Folder    string
	Tags      []string
}

// Changes turns the draft into the changes that would make an entry so.
func (d Draft) Changes() Changes {
	addresses, tags := d.Addresses, d.Tags
	if addresses == nil {
		addresses = []Address{}
	}
	if tags == nil {
		tags = []string{}
	}
	return Changes{
		FieldTitle: strings.TrimSpace(d.Title), FieldUsername: strings.TrimSpace(d.Username),
		FieldPassword: d.Password, FieldAddresses: addresses, FieldNotes: d.Notes,
		FieldFolder: CleanFolder(d.Folder), FieldTags: tags,
	}
}

// CleanFolder brings a folder's name to the form it is kept in: parts nested by
// "/", without spaces around them and without empty ones.
func CleanFolder(s string) string {
	var parts []string
	for p := range strings.SplitSeq(s, "/") {
		if p = strings.Join(strings.Fields(p), " "); p != "" {
			parts = append(parts, p)
		}
	}
	return strings.Join(parts, "/")
}

// CleanTags splits a line of tags at its commas, each once.
func CleanTags(s string) []string {
	out := []string{}
	seen := map[string]bool{}
	for t := range strings.SplitSeq(s, ",") {
		t = strings.Join(strings.Fields(strings.TrimPrefix(strings.TrimSpace(t), "#")), " ")
		if t != "" && !seen[strings.ToLower(t)] {
			seen[strings.ToLower(t)] = true
			out = append(out, t)
		}
	}
	return out
}
