package autofill

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"redlocket/core/secret"
)

// settings is a form of somebody's account: its name is there already, and a new password is asked for twice.
func settings(head, submit string, given bool) Snapshot {
	return Snapshot{
		Title: "Lanternfish", Path: "/user/me",
		Forms: []Form{{ID: 1, Head: head, Submit: submit}},
		Fields: []Field{
			{ID: 1, Form: 1, Type: "text", Label: "User name", Visible: true, Filled: given, Given: given},
			{ID: 2, Form: 1, Type: "email", Label: "E-mail", Visible: true, Filled: given, Given: given},
			{ID: 3, Form: 1, Type: "password", Label: "Password", Autocomplete: "new-password", Visible: true},
			{ID: 4, Form: 1, Type: "password", Label: "Repeat password", Autocomplete: "new-password", Visible: true},
		},
	}
}

// TestTheAccountsNameIsThere: what a page put into its fields tells a form of settings from a sign-up.
func TestTheAccountsNameIsThere(t *testing.T) {
	for _, c := range []struct {
		head, submit string
		given        bool
		want         Kind
	}{
		{"Your account", "Save", true, Reset},
		{"", "Submit", true, Reset},
		{"Profile", "Update profile", true, Reset},
		{"", "Sign up", false, SignUp},
		{"Create an account", "Sign up", true, SignUp}, // it came back because something was wrong
		{"", "Submit", false, SignUp},
	} {
		s := settings(c.head, c.submit, c.given)
		list := Read(s)
		if assert.Len(t, list, 1, c) {
			assert.Equal(t, c.want, list[0].Kind, "%+v", c)
		}
	}
	s := settings("Your account", "Save", true)
	fills, _ := Plan(s, Read(s)[0], Values{Username: secret.New("somebody.else"), NewPassword: secret.New("vole-Cart-19")})
	for _, f := range fills {
		assert.NotContains(t, []int{1, 2}, f.Field, "the page's word is never overwritten")
	}
	assert.Len(t, fills, 2)
}
