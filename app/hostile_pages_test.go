package app_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"redlocket/app/filling"
	"redlocket/app/records"
	"redlocket/core/autofill"
	"redlocket/core/secret"
	"redlocket/core/vault"
)

func at(p filling.Page, url string) filling.Page {
	p.URL, p.Top = url, url
	return p
}

// A page changes no kept password by itself: what it sends is staged only for logins of its own
// host, or for one that was filled in its tab, and what it says confirms nothing.
func TestASiblingHostStagesNothing(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	v := w.create(w.device("desk"))
	id := ferryLogin(t, v, "maren", "old-1")
	ctx := t.Context()
	sibling := at(changePage, "https://forum.ferrylink.example/password")
	require.NoError(t, v.Prompts.Submitted(ctx, sibling, 1, typed("old-1", "theirs", "theirs")))
	look(t, v, saying(at(insidePage, "https://forum.ferrylink.example/"), "Your password has been changed."))
	now, staged := passwords(t, v, id)
	assert.Equal(t, []string{"old-1", ""}, []string{now, staged})

	_, err := v.Pages.Fill(ctx, at(signInPage, "https://forum.ferrylink.example/sign-in"),
		filling.Request{ID: id, Form: 1, Part: filling.PartLogin})
	require.NoError(t, err, "filled there by a press")
	require.NoError(t, v.Prompts.Submitted(ctx, sibling, 1, typed("old-1", "own-2", "own-2")))
	now, staged = passwords(t, v, id)
	assert.Equal(t, []string{"old-1", "own-2"}, []string{now, staged}, "it is the login's place as well")
	look(t, v, saying(at(insidePage, "https://forum.ferrylink.example/"), "Your password has been changed."))
	now, _ = passwords(t, v, id)
	assert.Equal(t, "old-1", now, "a page's word confirms nothing")
}

// A sandboxed frame has the site's address and none of its rights.
func TestASandboxedFrameBelongsToNoSite(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	v := w.create(w.device("desk"))
	id := ferryLogin(t, v, "maren", "p-1")
	p := signInPage
	p.Opaque = true
	out := look(t, v, p)
	assert.Empty(t, out.Menus)
	assert.Empty(t, out.Readings)
	_, err := v.Pages.Fill(t.Context(), p, filling.Request{ID: id, Form: 1, Part: filling.PartLogin})
	assert.ErrorIs(t, err, filling.ErrWrongSite)
	_, err = v.Pages.FillNew(t.Context(), p, filling.NewPasswordRequest{Form: 1})
	assert.ErrorIs(t, err, filling.ErrWrongSite)
	require.NoError(t, v.Prompts.Submitted(t.Context(), p, 1, typed("new", "pw")))
	assert.Nil(t, look(t, v, insidePage).Slip)
}

// A card's number is read by whoever is on the way, where a page came in clear.
func TestCardsAreFilledOverHTTPSOnly(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	v := w.create(w.device("desk"))
	id := records.NewID()
	require.NoError(t, v.Items.Save(t.Context(), id, vault.Changes{
		vault.FieldKind: "card", vault.FieldTitle: "Gullwing Visa", vault.FieldNumber: secret.New("4111111111111111"),
	}))
	pay := form("https://shop.example/pay", "Pay", "Pay now",
		autofill.Field{Type: "text", Autocomplete: "cc-number"}, autofill.Field{Type: "text", Autocomplete: "cc-csc"})
	framed := func(url, top string) filling.Page {
		p := at(pay, url)
		p.Top, p.Frame = top, true
		return p
	}
	for _, c := range []struct {
		name  string
		page  filling.Page
		fills bool
	}{
		{"https", pay, true},
		{"this computer", at(pay, "http://shop.localhost:7310/pay"), true},
		{"http", at(pay, "http://shop.example/pay"), false},
		{"http, and a name like this computer's", at(pay, "http://localhost.shop.example/pay"), false},
		{"a frame in a page that came in clear", framed("https://shop.example/pay", "http://shop.example/"), false},
		{"a frame in one that didn't", framed("https://shop.example/pay", "https://shop.example/"), true},
	} {
		t.Run(c.name, func(t *testing.T) {
			menus := look(t, v, c.page).Menus
			require.NotEmpty(t, menus)
			for _, m := range menus {
				assert.Equal(t, c.fills, len(m.Lines) == 1)
				assert.Equal(t, !c.fills, m.Topic == filling.TopicNoCards)
			}
			values, err := v.Pages.Fill(t.Context(), c.page, filling.Request{ID: id, Form: 1, Part: filling.PartCard})
			if c.fills {
				require.NoError(t, err)
				assert.Len(t, values.Fills, 1)
			} else {
				assert.ErrorIs(t, err, filling.ErrInClear)
				assert.Empty(t, values.Fills)
			}
		})
	}
}

// Every place that a form's buttons send to is named, and agreed to at once.
func TestAllTargetsOfAFormCount(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	v := w.create(w.device("desk"))
	id := ferryLogin(t, v, "maren", "p-1")
	p := signInPage
	p.Snapshot.Forms = []autofill.Form{{
		ID: 1, Submit: "Sign in", Action: ferry,
		Targets: []string{"https://one.example", ferry, "https://sub.two.example", "https://one.example:8443"},
	}}
	const both = "one.example and two.example"
	assert.Equal(t, both, look(t, v, p).Readings[0].Elsewhere)
	for _, agreed := range []string{"", "one.example", "two.example", both} {
		want := filling.Request{ID: id, Form: 1, Part: filling.PartLogin, Elsewhere: agreed}
		_, err := v.Pages.Fill(t.Context(), p, want)
		assert.Equal(t, agreed == both, err == nil, agreed)
	}
}
