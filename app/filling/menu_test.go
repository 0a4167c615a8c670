package filling

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"redlocket/core/autofill"
)

func formOf(kind autofill.Kind, roles ...autofill.Role) FormView {
	f := FormView{Reading: autofill.Reading{Form: 3, Kind: kind, Roles: map[int]autofill.Role{}}}
	for i, r := range roles {
		f.Roles[i] = r
	}
	return f
}

func texts(lines []MenuLine) (out []string) {
	for _, l := range lines {
		out = append(out, string(l.Do)+" "+l.Text)
	}
	return out
}

var (
	marensOffer = Offer{ID: "m", Title: "Ferrylink", Username: "maren", Folder: "Travel", Code: true}
	wrensOffer  = Offer{ID: "w", Title: "Ferrylink", Username: "wren"}
)

func TestMenus(t *testing.T) {
	staged, signedUp := marensOffer, marensOffer
	staged.Staged, signedUp.Staged, signedUp.Joining = true, true, true
	cases := []struct {
		name  string
		role  autofill.Role
		view  PageView
		kind  autofill.Kind
		say   string
		lines []string
		acts  []string
		none  bool
	}{
		{
			name: "two accounts", role: autofill.Username, kind: autofill.SignIn,
			view:  PageView{Offers: []Offer{marensOffer, wrensOffer}},
			lines: []string{"fill maren", "fill wren"}, acts: []string{"find Find another"},
		},
		{
			name: "one account leads to its sheet", role: autofill.CurrentPassword, kind: autofill.SignIn,
			view:  PageView{Offers: []Offer{wrensOffer}},
			lines: []string{"fill wren"}, acts: []string{"find Find another", "details Details"},
		},
		{
			name: "none, and why", role: autofill.Username, kind: autofill.SignIn, view: PageView{Why: "no https"},
			say: "no https", acts: []string{"find Find another"},
		},
		{name: "none, and nothing to say", role: autofill.Username, kind: autofill.SignIn, none: true},
		{
			name: "a password that waits stands beside the present one", role: autofill.CurrentPassword,
			kind: autofill.SignIn, view: PageView{Offers: []Offer{staged}},
			lines: []string{"fill maren", "fill maren"}, acts: []string{"find Find another", "details Details"},
		},
		{
			name: "a sign-up that waits has one password", role: autofill.CurrentPassword, kind: autofill.SignIn,
			view:  PageView{Offers: []Offer{signedUp}},
			lines: []string{"fill maren"}, acts: []string{"find Find another", "details Details"},
		},
		{
			name: "codes of those that have one", role: autofill.OneTimeCode, kind: autofill.CodeForm,
			view: PageView{Offers: []Offer{marensOffer, wrensOffer}}, say: "One-time code of",
			lines: []string{"fill maren"},
		},
		{
			name: "no codes", role: autofill.OneTimeCode, kind: autofill.CodeForm,
			view: PageView{Offers: []Offer{wrensOffer}}, none: true,
		},
		{
			name: "a new password at a sign-up", role: autofill.NewPassword, kind: autofill.SignUp,
			view: PageView{Offers: []Offer{marensOffer}},
			say:  "A new password, made for this site and kept until you decide.", acts: []string{"fill-new Make and fill it"},
		},
		{
			name: "a change for one of two", role: autofill.NewPassword, kind: autofill.Change,
			view: PageView{Offers: []Offer{marensOffer, wrensOffer}}, say: "Make a new password for",
			lines: []string{"fill-new maren", "fill-new wren"},
		},
		{
			name: "user names at a sign-up", role: autofill.Username, kind: autofill.SignUp,
			lines: []string{"type a", "type b", "type c", "type d"},
		},
		{
			name: "a card's code by itself", role: autofill.CardCode, kind: autofill.Other,
			view: PageView{Cards: []Offer{{ID: "c", Title: "Gullwing Visa"}}},
			say:  "The security code is filled by a press of its own.", lines: []string{"fill Gullwing Visa"},
		},
		{name: "no card", role: autofill.CardNumber, kind: autofill.Other, none: true},
		{
			name: "details", role: autofill.Postcode, kind: autofill.Other,
			view: PageView{People: []Offer{{ID: "p", Title: "Maren Tolliver"}}}, lines: []string{"fill Maren Tolliver"},
		},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			c.view.Readings = []FormView{formOf(c.kind, c.role)}
			m := menus(&c.view, nil, []string{"a", "b", "c", "d", "e"})[0]
			if c.none {
				assert.Nil(t, m)
				return
			}
			require.NotNil(t, m)
			assert.Equal(t, c.say, m.Say)
			assert.Equal(t, c.lines, texts(m.Lines))
			assert.Equal(t, c.acts, texts(m.Acts))
		})
	}
}

func TestMenusNameTheOtherSite(t *testing.T) {
	view := PageView{Offers: []Offer{wrensOffer}, Readings: []FormView{formOf(autofill.SignIn, autofill.Username)}}
	view.Readings[0].Elsewhere = "other.example"
	m := menus(&view, nil, nil)[0]
	assert.Equal(t, "other.example", m.Elsewhere)
	assert.False(t, m.Framed)
	view.Framed = "frame.example"
	m = menus(&view, nil, nil)[0]
	assert.Equal(t, "frame.example", m.Elsewhere)
	assert.True(t, m.Framed)
	assert.True(t, menus(&view, map[int]int{0: 1}, nil)[0].NoClasp, "a box for one character")
}

func TestTheKeyTakesTheSignInFirst(t *testing.T) {
	view := PageView{
		Offers:   []Offer{marensOffer, wrensOffer},
		Readings: []FormView{formOf(autofill.SignUp), formOf(autofill.FirstStep), formOf(autofill.SignIn)},
	}
	view.Readings[2].Form = 9
	assert.Equal(t, &KeyFill{Form: 9, IDs: []string{"m", "w"}}, keyFill(&view))
	view.Readings = view.Readings[:2]
	assert.Equal(t, 3, keyFill(&view).Form)
	view.Readings = view.Readings[:1]
	assert.Nil(t, keyFill(&view))
}
