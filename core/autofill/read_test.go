package autofill

import (
	"encoding/json"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"redlocket/core/secret"
)

func page(title, formText string, fields ...Field) Snapshot {
	s := Snapshot{Title: title, Forms: []Form{{ID: 1, Submit: formText}}}
	for i, f := range fields {
		f.ID, f.Form, f.Visible = i, 1, true
		s.Fields = append(s.Fields, f)
	}
	return s
}

func TestRead(t *testing.T) {
	user, pass := Field{
		Type:  "text",
		Name:  "username",
		Label: "User name",
	}, Field{
		Type:  "password",
		Name:  "password",
		Label: "Password",
	}
	cases := []struct {
		name  string
		page  Snapshot
		kind  Kind
		roles map[int]Role
	}{
		{"plain", page("Sign in", "Sign in", user, pass), SignIn, map[int]Role{0: Username, 1: CurrentPassword}},
		{
			"nothing but types",
			page("", "", Field{Type: "text"}, Field{Type: "password"}),
			SignIn,
			map[int]Role{0: Username, 1: CurrentPassword},
		},
		{
			"by autocomplete",
			page(
				"",
				"",
				Field{Type: "text", Autocomplete: "section-a username"},
				Field{Type: "password", Autocomplete: "current-password"},
			),
			SignIn,
			map[int]Role{0: Username, 1: CurrentPassword},
		},
		{
			"German",
			page(
				"Willkommen",
				"Anmelden",
				Field{Type: "text", Label: "Benutzername oder Kundennummer"},
				Field{Type: "password", Label: "Kennwort"},
			),
			SignIn,
			map[int]Role{0: Username, 1: CurrentPassword},
		},
		{
			"Japanese",
			page("", "ログイン", Field{Type: "text", Label: "メールアドレス"}, Field{Type: "password", Label: "パスワード"}),
			SignIn,
			map[int]Role{0: Username, 1: CurrentPassword},
		},
		{
			"sign up",
			page(
				"Join",
				"Create account",
				Field{Type: "text", Name: "full_name", Label: "Your name", Autocomplete: "name"},
				Field{Type: "email", Label: "E-mail"},
				pass,
				Field{Type: "password", Label: "Repeat password"},
			),
			SignUp,
			map[int]Role{0: Name, 1: Username, 2: NewPassword, 3: NewPassword},
		},
		{
			"sign up, one box",
			page("", "Sign up", Field{Type: "email", Label: "E-mail"}, pass),
			SignUp,
			map[int]Role{0: Username, 1: NewPassword},
		},
		{
			"change",
			page(
				"Change password",
				"Save",
				Field{Type: "password", Label: "Current password"},
				Field{Type: "password", Label: "New password"},
				Field{Type: "password", Label: "New password again"},
			),
			Change,
			map[int]Role{0: CurrentPassword, 1: NewPassword, 2: NewPassword},
		},
		{
			"change, unnamed",
			page("", "", Field{Type: "password"}, Field{Type: "password"}, Field{Type: "password"}),
			Change, // the last may be the present one
			map[int]Role{0: CurrentPassword, 1: NewPassword},
		},
		{
			"first step",
			page("Sign in to Cormorant Mail", "Next", Field{Type: "email", Name: "identifier", Label: "Address"}),
			FirstStep,
			map[int]Role{0: Username},
		},
		{"second step", page("Sign in", "Sign in", pass), SignIn, map[int]Role{0: CurrentPassword}},
		{
			"with a code",
			page("Sign in", "Sign in", user, pass, Field{Type: "text", Name: "otp", Label: "One-time code"}),
			SignIn,
			map[int]Role{0: Username, 1: CurrentPassword, 2: OneTimeCode},
		},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			got := Read(c.page)
			require.Len(t, got, 1)
			assert.Equal(t, c.kind, got[0].Kind)
			assert.Equal(t, c.roles, got[0].Roles)
		})
	}
}

func TestReadLeavesOtherFormsAlone(t *testing.T) {
	for name, p := range map[string]Snapshot{
		"search":     page("Pantry & Pier", "Search", Field{Type: "text", Name: "q", Label: "Search the shop"}),
		"newsletter": page("Pantry & Pier", "Subscribe to our newsletter", Field{Type: "email", Label: "E-mail"}),
		"contact": page("Write to us", "Send", Field{Type: "text", Label: "Name"}, Field{Type: "email",
			Label: "E-mail"}, Field{Type: "text", Label: "Subject"}),
		"empty": {},
	} {
		assert.Empty(t, Read(p), name)
	}
}

func TestSeveralFormsOnOnePage(t *testing.T) {
	s := Snapshot{
		Forms: []Form{{ID: 1, Submit: "Search"}, {ID: 2, Submit: "Sign in"}, {ID: 3, Submit: "Create account"}},
		Fields: []Field{
			{ID: 0, Form: 1, Type: "text", Name: "q", Visible: true},
			{
				ID:      1,
				Form:    2,
				Type:    "email",
				Name:    "email",
				Visible: true,
			}, {ID: 2, Form: 2, Type: "password", Visible: true},
			{
				ID:      3,
				Form:    3,
				Type:    "email",
				Name:    "email",
				Visible: true,
			}, {ID: 4, Form: 3, Type: "password", Visible: true},
		},
	}
	got := Read(s)
	require.Len(t, got, 2)
	assert.Equal(t, SignIn, got[0].Kind)
	assert.Equal(t, SignUp, got[1].Kind)
}

func TestHiddenFieldsGetNothing(t *testing.T) {
	s := page(
		"Sign in",
		"Sign in",
		Field{Type: "text", Name: "username"},
		Field{Type: "password"},
		Field{Type: "password", Name: "password2"},
	)
	s.Fields[2].Visible = false
	r := Read(s)[0]
	assert.NotContains(t, r.Roles, 2)
	r.Roles[2] = CurrentPassword // even if somebody said so
	fills, _ := Plan(s, r, Values{Username: secret.New("u"), Password: secret.New("p")})
	for _, f := range fills {
		assert.NotEqual(t, 2, f.Field)
	}
}

func TestPlan(t *testing.T) {
	s := page("Sign in", "Sign in", Field{Type: "text", Name: "username"}, Field{Type: "password"})
	r := Read(s)[0]
	v := Values{Username: secret.New("mtolliver"), Password: secret.New("kelp"), NewPassword: secret.New("never here")}
	fills, missed := Plan(s, r, v)
	assert.Equal(t, []Fill{{0, Username, v.Username}, {1, CurrentPassword, v.Password}}, fills)
	assert.Empty(t, missed)

	s.Fields[1].MaxLength = 3
	fills, missed = Plan(s, r, v)
	assert.Len(t, fills, 1)
	assert.Equal(
		t,
		[]Miss{{Field: 1, Why: MissTooLong, Most: 3}},
		missed,
		"too short a box is named, not filled by half",
	)

	s.Fields[0].Type = "password" // the page swapped the boxes after the reading
	fills, _ = Plan(s, r, v)
	assert.Empty(t, fills)
}

func TestTyped(t *testing.T) {
	s := page(
		"",
		"Create account",
		Field{Type: "email", Label: "E-mail"},
		Field{Type: "password"},
		Field{Type: "password"},
	)
	r := Read(s)[0]
	a, ok := Submitted(
		s,
		r,
		map[int]secret.Text{0: secret.New(" maren@x.example "), 1: secret.New("p"), 2: secret.New("p")},
	)
	require.True(t, ok)
	assert.Equal(t, Submission{Kind: SignUp, Username: "maren@x.example", Named: true, Password: secret.New("p")}, a)
	_, ok = Submitted(s, r, map[int]secret.Text{1: secret.New("p"), 2: secret.New("q")})
	assert.False(t, ok)
	_, ok = Submitted(s, r, nil)
	assert.False(t, ok)
}

func TestMasked(t *testing.T) {
	for _, u := range []string{"mt*****er", "m*@cormorant.example", "••••77"} {
		assert.True(t, Masked(u), u)
	}
	for _, u := range []string{"mtolliver", "a*b", ""} {
		assert.False(t, Masked(u), u)
	}
}

func FuzzRead(f *testing.F) {
	b, _ := json.Marshal(page("Sign in", "Log in", Field{Type: "text", Name: "userName"}, Field{Type: "password"}))
	f.Add(b)
	f.Fuzz(func(t *testing.T, b []byte) {
		var s Snapshot
		if json.Unmarshal(b, &s) != nil {
			return
		}
		for _, r := range Read(s) {
			fills, _ := Plan(s, r, Values{Username: secret.New("u"), Password: secret.New("p")})
			for _, fill := range fills {
				for _, fl := range s.Fields {
					if fl.ID == fill.Field && fl.Form == r.Form && fl.Visible && fill.Role != Username &&
						fl.Type != "password" &&
						len(s.Fields) == 1 {
						t.Fatalf("a password for a %s field", fl.Type)
					}
				}
			}
		}
	})
}

func TestLimits(t *testing.T) {
	s := page(strings.Repeat("é", MaxText), "Sign in")
	for i := range 10000 {
		s.Fields = append(
			s.Fields,
			Field{ID: i, Form: 1, Type: "password", Visible: true, Label: strings.Repeat("x", 5000)},
		)
	}
	b := s.Bound()
	assert.Len(t, b.Fields, MaxFields)
	assert.LessOrEqual(t, len(b.Fields[0].Label), MaxText)
	Read(s)
}
