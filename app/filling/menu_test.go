package filling

import (
	"strings"
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
		out = append(out, strings.TrimSpace(string(l.Do)+" "+l.Name+" "+string(l.State)))
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
		topic Topic
		lines []string
		acts  []string
		none  bool
	}{
		{
			name: "two accounts", role: autofill.Username, kind: autofill.SignIn,
			view:  PageView{Offers: []Offer{marensOffer, wrensOffer}},
			lines: []string{"fill maren", "fill wren"}, acts: []string{"find"},
		},
		{
			name: "one account leads to its sheet", role: autofill.CurrentPassword, kind: autofill.SignIn,
			view:  PageView{Offers: []Offer{wrensOffer}},
			lines: []string{"fill wren"}, acts: []string{"find", "details"},
		},
		{
			name: "none, and why", role: autofill.Username, kind: autofill.SignIn, view: PageView{Nothing: NothingNoHTTPS},
			topic: TopicNothing, acts: []string{"find"},
		},
		{name: "none, and nothing to say", role: autofill.Username, kind: autofill.SignIn, none: true},
		{
			name: "a password that waits stands beside the present one", role: autofill.CurrentPassword,
			kind: autofill.SignIn, view: PageView{Offers: []Offer{staged}},
			lines: []string{"fill maren present", "fill maren staged"}, acts: []string{"find", "details"},
		},
		{
			name: "a sign-up that waits has one password", role: autofill.CurrentPassword, kind: autofill.SignIn,
			view:  PageView{Offers: []Offer{signedUp}},
			lines: []string{"fill maren joining"}, acts: []string{"find", "details"},
		},
		{
			name: "codes of those that have one", role: autofill.OneTimeCode, kind: autofill.CodeForm,
			view: PageView{Offers: []Offer{marensOffer, wrensOffer}}, topic: TopicCode,
			lines: []string{"fill maren"},
		},
		{
			name: "no codes", role: autofill.OneTimeCode, kind: autofill.CodeForm,
			view: PageView{Offers: []Offer{wrensOffer}}, none: true,
		},
		{
			name: "a new password at a sign-up", role: autofill.NewPassword, kind: autofill.SignUp,
			view:  PageView{Offers: []Offer{marensOffer}},
			topic: TopicNew, acts: []string{"fill-new"},
		},
		{
			name: "a change for one of two", role: autofill.NewPassword, kind: autofill.Change,
			view: PageView{Offers: []Offer{marensOffer, wrensOffer}}, topic: TopicNewOf,
			lines: []string{"fill-new maren", "fill-new wren"},
		},
		{
			name: "user names at a sign-up", role: autofill.Username, kind: autofill.SignUp,
			lines: []string{"type a", "type b", "type c", "type d"},
		},
		{
			name: "a card's code by itself", role: autofill.CardCode, kind: autofill.Other,
			view:  PageView{Cards: []Offer{{ID: "c", Title: "Gullwing Visa"}}},
			topic: TopicCardCode, lines: []string{"fill Gullwing Visa"},
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
			assert.Equal(t, c.topic, m.Topic)
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
