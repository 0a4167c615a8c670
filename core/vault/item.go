package vault

import (
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
	Addresses   []Address
	Notes       string
	Folder      string
	Tags        []string
	Pinned      bool
	Archived    bool
	Undecided   bool // two devices set different passwords; see Entry.Rivals
	HasPassword bool
	Created     int64 // milliseconds since 1970
	Modified    Stamp
}

// View reads the item out of an entry.
func View(e Entry) Item {
	it := Item{
		ID: e.ID, Type: e.Type, Created: e.Created,
		Title: e.Text(FieldTitle), Username: e.Text(FieldUsername),
		Notes: e.Text(FieldNotes), Folder: e.Text(FieldFolder),
		Archived: e.Archived(), Undecided: len(e.Rivals()) > 0,
		HasPassword: e.Text(FieldPassword) != "", Modified: e.Modified(),
	}
	var ok bool
	if it.Addresses, ok = scanAddresses(e.Fields[FieldAddresses].Value.Reveal()); !ok {
		it.Addresses = nil
		e.read(FieldAddresses, &it.Addresses)
	}
	if e.Fields[FieldTags].Value.Reveal() != "[]" {
		e.read(FieldTags, &it.Tags)
	}
	e.read(FieldPinned, &it.Pinned)
	return it
}

// Draft is what a person typed into a login's form.
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
		FieldFolder: strings.Trim(strings.TrimSpace(d.Folder), "/"), FieldTags: tags,
	}
}
