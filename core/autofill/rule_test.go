package autofill

import (
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// pw is a password field with a label; the page's own word for it may follow.
func pw(label string, autocomplete ...string) Field {
	f := Field{Type: "password", Label: label}
	if len(autocomplete) > 0 {
		f.Autocomplete = autocomplete[0]
	}
	return f
}

// cardPage is a checkout whose card number stands first.
func cardPage(more ...Field) Snapshot {
	return onePage("Pay", append([]Field{{Type: "text", Label: "Card number"}}, more...)...)
}

var cvc = Field{Type: "text", Label: "CVC", MaxLength: 3}

func onePage(submit string, fields ...Field) Snapshot {
	s := Snapshot{Forms: []Form{{ID: 1, Submit: submit}}}
	for i, f := range fields {
		f.ID, f.Form, f.Visible = i, 1, true
		s.Fields = append(s.Fields, f)
	}
	return s
}

func months() []Option {
	var out []Option
	for _, m := range []string{"01", "02", "03", "04", "05", "06", "07", "08", "09", "10", "11", "12"} {
		out = append(out, Option{Text: m, Value: m})
	}
	return out
}

func years() (out []Option) {
	for _, y := range []string{"2026", "2027", "2028", "2029", "2030", "2031", "2032", "2033"} {
		out = append(out, Option{Text: y, Value: y})
	}
	return out
}

// Each rule of the tables has a page on which it speaks, and the field there the rule's role.
var rulePages = []struct {
	rule  string
	field int
	page  Snapshot
}{
	{
		"named a new password only to keep browsers from filling it", 1,
		onePage("Sign in", Field{Type: "text", Label: "User name"}, pw("Password", "new-password")),
	},
	{"the page's own word: current-password", 0, onePage("Save", pw("Secret", "current-password"), pw("Other", "new-password"))},
	{"the page's own word: new-password", 1, onePage("Save", pw("Secret", "current-password"), pw("Other", "new-password"))},
	{"speaks of the present password", 0, onePage("Save", pw("Current password"), pw("New password"))},
	{"asks for a password again", 1, onePage("Create account", pw("Password"), pw("Repeat password"))},
	{"speaks of a new password", 0, onePage("Save", pw("New password"))},
	{"the first of three, on a change", 0, onePage("Change password", pw("One"), pw("Two"), pw("Three"))},
	{
		"the others are a new one and its repetition", 2,
		onePage("Change password", pw("New password"), pw("New password again"), pw("Third")),
	},
	{"the first is new, and this one is none", 1, onePage("Save", pw("New password"), pw("Password"))},
	{"the last of three, unlike the two before it", 2, onePage("", pw("ab cd"), pw("ab cd ef"), pw("gh"))},
	{"one of three", 1, onePage("Change password", pw("One"), pw("Two"), pw("Three"))},
	{"the second is it again", 0, onePage("Create account", pw("Password"), pw("Repeat password"))},
	{"the second is another, and new", 0, onePage("Change password", pw("Password"), pw("New password"))},
	{"the first of two, on a change", 0, onePage("Change password", pw("One"), pw("Two"))},
	{"one of two", 1, onePage("Create account", pw("One"), pw("Two"))},
	{
		"the form signs up, or sets a password", 1,
		onePage("Create account", Field{Type: "email", Label: "E-mail"}, pw("Password")),
	},
	{"the only password", 1, onePage("Sign in", Field{Type: "email", Label: "E-mail"}, pw("Password"))},

	{"speaks of a security code", 1, cardPage(Field{Type: "text", Label: "CVC", MaxLength: 3})},
	{"speaks of the month", 1, cardPage(Field{Type: "text", Label: "Expiry month"})},
	{"offers months, in a date", 1, cardPage(Field{Type: "select", Label: "", Near: "Expiry date", Options: months()})},
	{"speaks of the year", 1, cardPage(Field{Type: "text", Label: "Expiry year"})},
	{"offers years, in a date", 1, cardPage(Field{Type: "select", Near: "Expiry date", Options: years()})},
	{
		"stands behind the month", 2,
		cardPage(Field{Type: "text", Label: "Expiry month"}, Field{Type: "text", Label: "", MaxLength: 4}),
	},
	{
		"two letters of a date, and says month", 1,
		cardPage(Field{Type: "text", Label: "Month", Near: "Expiry date", MaxLength: 2}),
	},
	{
		"offers months behind the number or the name", 1,
		cardPage(Field{Type: "select", Options: months()}),
	},
	{
		"a box for the month behind the number or the name", 1,
		cardPage(Field{Type: "text", Label: "Month", MaxLength: 2}),
	},
	{"two letters that speak of the expiry", 1, cardPage(Field{Type: "text", Label: "Expiry", MaxLength: 2})},
	{"speaks of the expiry", 1, cardPage(Field{Type: "text", Label: "Expiry date"})},
	{"speaks of the name on the card", 1, cardPage(Field{Type: "text", Label: "Name on card"})},
	{"speaks of a name and of a card", 1, cardPage(Field{Type: "text", Label: "Name, as your card has it"}, cvc)},
	{"speaks of the card's kind", 1, cardPage(Field{Type: "select", Label: "Card type"})},
}

func TestEachRuleHasItsPage(t *testing.T) {
	roles := map[string]Role{}
	for _, r := range slices.Concat(saidPasswords, placedPasswords, cardRules) {
		roles[r.name] = r.role
	}
	for _, c := range rulePages {
		t.Run(c.rule, func(t *testing.T) {
			require.Contains(t, roles, c.rule)
			list := Read(c.page)
			require.Len(t, list, 1)
			assert.Contains(t, list[0].Why[c.field], c.rule)
			assert.Equal(t, roles[c.rule], list[0].Roles[c.field])
		})
	}
	for name := range roles {
		tried := slices.ContainsFunc(rulePages, func(c struct {
			rule  string
			field int
			page  Snapshot
		}) bool {
			return c.rule == name
		})
		assert.True(t, tried, "no page for: "+name)
	}
}

// A stronger rule isn't outvoted by all weaker ones together.
func TestWeightsAreRanked(t *testing.T) {
	for _, table := range [][]rule{saidPasswords, placedPasswords, cardRules} {
		for i, r := range table {
			below := 0
			for _, weaker := range table[i+1:] {
				below += weaker.weight
			}
			assert.Greater(t, r.weight, below, r.name)
		}
	}
}
