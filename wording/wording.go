// Package wording holds the words in which people read what core says.
//
// Packages in core return facts: types of items and fields, reasons, errors that carry what
// is needed to explain them. Their names and error texts are for programs and logs. Pages, the
// extension's bridge and the command line get the words from here, so that one thing is called
// the same everywhere and a sentence is changed in one place:
//
//   - [Kind], [Label], [Hint], [Meaning], [State] name things: a noun or a short phrase, begun
//     small where it may stand inside a sentence.
//   - [Error] puts an error into words: a clause without a full stop, so that more can follow.
//   - The rest put one kind of fact each into a sentence or a clause.
//
// Names that people's files and titles hold (a field's name in a table, what kind of paper a
// passport is) are data, and stay with the kinds in package vault.
package wording

import (
	"redlocket/core/audit"
	"redlocket/core/find"
	"redlocket/core/transfer"
	"redlocket/core/vault"
)

// Names are what one and many of something are called.
type Names struct{ One, Many string }

var kinds = map[vault.Type]Names{
	vault.TypeLogin:      {"login", "logins"},
	vault.TypeApp:        {"app login", "app logins"},
	vault.TypeCard:       {"payment card", "payment cards"},
	vault.TypeBank:       {"bank account", "bank accounts"},
	vault.TypePerson:     {"personal details", "personal details"},
	vault.TypePaper:      {"identity paper", "identity papers"},
	vault.TypeMembership: {"membership", "memberships"},
	vault.TypeNote:       {"note", "notes"},
	vault.TypeWiFi:       {"Wi-Fi network", "Wi-Fi networks"},
	vault.TypeSoftware:   {"software licence", "software licences"},
}

// Kind names a type of items; empty for types that aren't.
func Kind(t vault.Type) Names { return kinds[t] }

var common = map[vault.Field]string{
	vault.FieldTitle:     "Title",
	vault.FieldNotes:     "Notes",
	vault.FieldFolder:    "Folder",
	vault.FieldTags:      "Tags",
	vault.FieldAddresses: "Works at",
	vault.FieldAliases:   "Also known as",
	vault.FieldKind:      "Kind",
	vault.FieldFrom:      "Imported from",
	vault.FieldArchived:  "Archive",
	vault.FieldStaged:    "New password, waiting",
	vault.FieldRefused:   "Refused by the site",
	audit.FieldResetBy:   "Reset by the mailbox",
}

// Label names a field of an item of type t, or of the kind that it was before. Custom fields
// and files are named by what the entry says.
func Label(t vault.Type, f vault.Field) string {
	if word, ok := common[f]; ok {
		return word
	}
	k, _ := vault.KindOf(t)
	if s, ok := k.Spec(f); ok {
		return s.Name
	}
	for _, k := range vault.Kinds() {
		if s, ok := k.Spec(f); ok {
			return s.Name
		}
	}
	return string(f)
}

// NamedLabel is [Label], but for custom fields and files, which have the given name.
func NamedLabel(t vault.Type, f vault.Field, name string) string {
	switch {
	case name == "":
		return Label(t, f)
	case f.IsFile():
		return "File “" + name + "”"
	}
	return name
}

var hints = map[vault.Type]map[vault.Field]string{
	vault.TypeLogin: {
		vault.FieldAlone:  "fill it in without asking, on the page itself and never in a frame",
		vault.FieldSubmit: "send the form once it is filled",
	},
	vault.TypeApp:  {vault.FieldApp: "as the computer names it"},
	vault.TypeCard: {vault.FieldEmergency: "the issuer’s emergency telephone"},
	vault.TypeBank: {vault.FieldSortCode: "or routing number"},
	vault.TypeWiFi: {vault.FieldUnseen: "it doesn’t show its name"},
}

// Hint says what belongs into a field, or what it does; empty where its label says enough.
func Hint(t vault.Type, f vault.Field) string { return hints[t][f] }

// Change names what a change of an entry of type t was about.
func Change(t vault.Type, c vault.Change) string {
	switch {
	case c.Field == vault.FieldArchived && c.Removed:
		return "Restored from the archive"
	case c.Field == vault.FieldArchived:
		return "Archived"
	}
	return NamedLabel(t, c.Field, c.Name)
}

var meanings = map[transfer.Meaning]string{
	transfer.MeansTitle:    "title",
	transfer.MeansAddress:  "address",
	transfer.MeansUsername: "user name",
	transfer.MeansPassword: "password",
	transfer.MeansNotes:    "notes",
	transfer.MeansSetup:    "setup key of one-time codes",
	transfer.MeansFolder:   "folder",
	transfer.MeansTags:     "tags",
	transfer.MeansPinned:   "pinned",
	transfer.MeansKind:     "kind",
	transfer.MeansApp:      "app",
	transfer.MeansChanged:  "when the password was set",
	transfer.MeansMade:     "when it was made",
	transfer.MeansOwn:      "a field of your own",
	transfer.MeansNothing:  "leave it out",
}

// Meaning names what a column of a table is taken for.
func Meaning(m transfer.Meaning) string { return meanings[m] }

// Gain names a field that an item gets from a file.
func Gain(g transfer.Gain) string {
	if g.Field == "" {
		return "Earlier values"
	}
	return NamedLabel(g.Type, g.Field, g.Name)
}

var states = map[string]string{
	"pinned":      "pinned",
	"archived":    "in the archive",
	"no-password": "without a password",
	"never-used":  "never used on this device",
	"reused":      "with a password used elsewhere too",
	"suspect":     "that may be there twice",
	"staged":      "whose new password waits",
	"undecided":   "undecided",
	"code":        "with one-time codes",
	"file":        "with files",
	"runs-out":    "that expire soon",
}

// State says what items are like that a state of [find.States] finds.
func State(name string) string { return states[name] }

// Query says what of a query wasn't understood; empty if all was.
func Query(q find.Query) string {
	if len(q.Strange) == 0 {
		return ""
	}
	return "“" + q.Strange[0] + "” narrows nothing: before = stands kind, folder or tag, " +
		"or after it alone a state like pinned."
}
