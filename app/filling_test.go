package app_test

import (
	"context"
	"errors"
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"redlocket/app"
	"redlocket/app/filling"
	"redlocket/app/reauth"
	"redlocket/app/records"
	"redlocket/core/autofill"
	"redlocket/core/secret"
	"redlocket/core/vault"
)

// form is a page with one form, at a site of the tests.
func form(url, title, submit string, fields ...autofill.Field) filling.Page {
	s := autofill.Snapshot{Title: title, Heads: title, Forms: []autofill.Form{{ID: 1, Submit: submit}}}
	for i, f := range fields {
		f.ID, f.Form, f.Visible = i, 1, true
		s.Fields = append(s.Fields, f)
	}
	return filling.Page{URL: url, Top: url, Tab: "7", Snapshot: s}
}

const ferry = "https://ferrylink.example"

var (
	userField, passField = autofill.Field{
		Type:  "text",
		Label: "User name",
	}, autofill.Field{
		Type:  "password",
		Label: "Password",
	}
	newField, againField = autofill.Field{
		Type:  "password",
		Label: "New password",
	}, autofill.Field{
		Type:  "password",
		Label: "Repeat new password",
	}
	signInPage = form(ferry+"/sign-in", "Sign in", "Sign in", userField, passField)
	signUpPage = form(
		ferry+"/sign-up",
		"Join",
		"Create account",
		userField,
		passField,
		autofill.Field{Type: "password", Label: "Repeat password"},
	)
	changePage = form(
		ferry+"/change",
		"Change password",
		"Change password",
		autofill.Field{Type: "password", Label: "Current password"},
		newField,
		againField,
	)
	insidePage = form(ferry+"/welcome", "Good day", "")
)

func saying(p filling.Page, words string) filling.Page {
	p.Snapshot.Alerts = words
	return p
}

func typed(values ...string) map[int]secret.Text {
	out := map[int]secret.Text{}
	for i, v := range values {
		out[i] = secret.New(v)
	}
	return out
}

func look(t *testing.T, v *app.Vault, p filling.Page) filling.PageView {
	t.Helper()
	out, err := v.Pages.Read(t.Context(), p)
	require.NoError(t, err)
	return out
}

func ferryLogin(t *testing.T, v *app.Vault, user, password string) string {
	id := records.NewID()
	require.NoError(
		t,
		v.Items.Save(
			t.Context(),
			id,
			vault.Draft{
				Title:     "Ferrylink",
				Username:  user,
				Password:  secret.New(password),
				Addresses: []vault.Address{{URL: ferry + "/sign-in"}},
			}.Changes(),
		),
	)
	return id
}

func passwords(t *testing.T, v *app.Vault, id string) (now, staged string) {
	t.Helper()
	e, err := v.Items.Entry(id)
	require.NoError(t, err)
	return e.Text(vault.FieldPassword), e.Text(vault.FieldStaged)
}

func TestAChangeIsStagedUntilTheSiteTookIt(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	d := w.device("desk")
	v := w.create(d)
	id := ferryLogin(t, v, "maren", "old-1")
	ctx := t.Context()

	values, err := v.Pages.FillNew(ctx, changePage, filling.NewPasswordRequest{Form: 1, Login: id})
	require.NoError(t, err)
	require.Len(t, values.Fills, 3)
	made := values.Fills[1].Value
	assert.Equal(t, "old-1", values.Fills[0].Value, "the present one goes into its own box")
	assert.Equal(t, made, values.Fills[2].Value)
	now, staged := passwords(t, v, id)
	assert.Equal(t, []string{"old-1", made}, []string{now, staged}, "both at hand, before anything was sent")
	items, err := v.Book.Logins()
	require.NoError(t, err)
	assert.Len(t, items, 1, "no second entry")
	drawer, err := v.Generated.List()
	require.NoError(t, err)
	assert.Equal(t, made, drawer[0].Password)

	require.NoError(t, v.Prompts.Submitted(ctx, changePage, 1, typed("old-1", made, made)))
	assert.Nil(t, look(t, v, changePage).Slip, "the form is still there: nothing can be told")
	slip := look(t, v, saying(changePage, "That was too easy to guess, error")).Slip
	require.NotNil(t, slip)
	assert.Equal(t, filling.PromptRefused, slip.Kind)
	e, err := v.Items.Entry(id)
	require.NoError(t, err)
	assert.Equal(t, "That was too easy to guess, error", e.Text(vault.FieldRefused), "its reason stays with the login")
	require.NoError(t, v.Staged.StepBack(ctx, id))
	now, staged = passwords(t, v, id)
	assert.Equal(t, []string{"old-1", ""}, []string{now, staged})
	e, err = v.Items.Entry(id)
	require.NoError(t, err)
	assert.Contains(t, fmt.Sprint(reveal(e.Past)), made, "the refused one is in the past")

	// The user typed one of their own; the site says that it took it. Pages say what they like.
	require.NoError(t, v.Prompts.Submitted(ctx, changePage, 1, typed("old-1", "own-2", "own-2")))
	e, err = v.Items.Entry(id)
	require.NoError(t, err)
	assert.Empty(t, e.Text(vault.FieldRefused), "another try")
	slip = look(t, v, saying(insidePage, "Your password was changed.")).Slip
	require.NotNil(t, slip)
	assert.Equal(t, filling.PromptWaiting, slip.Kind)
	now, staged = passwords(t, v, id)
	assert.Equal(t, []string{"old-1", "own-2"}, []string{now, staged})
	login, err := v.Prompts.Login(insidePage, slip.ID)
	require.NoError(t, err)
	assert.Equal(t, id, login)
	elsewhere := insidePage
	elsewhere.URL, elsewhere.Top = "https://trickster.example/", "https://trickster.example/"
	_, err = v.Prompts.Login(elsewhere, slip.ID)
	assert.ErrorIs(t, err, filling.ErrNoPrompt, "for another page to answer")
	otherTab := insidePage
	otherTab.Tab = "other"
	_, err = v.Prompts.Login(otherTab, slip.ID)
	assert.ErrorIs(t, err, filling.ErrNoPrompt)
	require.NoError(t, v.Staged.Confirm(ctx, id))
	require.NoError(t, v.Staged.StepBack(ctx, id))
	now, staged = passwords(t, v, id)
	assert.Equal(t, []string{"old-1", "own-2"}, []string{now, staged}, "stepped back after all, and nothing lost")
	require.NoError(t, v.Staged.Confirm(ctx, id))

	// Signed out by the change: the next sign-in tells.
	require.NoError(t, v.Prompts.Submitted(ctx, changePage, 1, typed("own-2", "third-3", "third-3")))
	slip = look(t, v, signInPage).Slip
	require.NotNil(t, slip)
	assert.Equal(t, filling.PromptWaiting, slip.Kind)
	offers := look(t, v, signInPage).Offers
	require.Len(t, offers, 1)
	assert.True(t, offers[0].Staged)
	both := func(what filling.Part) string {
		values, err := v.Pages.Fill(ctx, signInPage, filling.Request{ID: id, Form: 1, Part: what})
		require.NoError(t, err)
		return values.Fills[1].Value
	}
	assert.Equal(t, []string{"own-2", "third-3"}, []string{both(filling.PartLogin), both(filling.PartStaged)})
	v.Lock()
	v, err = d.Unlock(ctx, v.Profile().ID, secret.New(master))
	require.NoError(t, err)
	require.NoError(t, v.Prompts.Submitted(ctx, signInPage, 1, typed("maren", "third-3")))
	slip = look(t, v, insidePage).Slip
	require.NotNil(t, slip)
	assert.Equal(t, filling.PromptConfirmed, slip.Kind)
	now, staged = passwords(t, v, id)
	assert.Equal(t, []string{"third-3", ""}, []string{now, staged})
	assert.Nil(t, look(t, v, insidePage).Slip, "said once")
	assert.ErrorIs(t, v.Staged.Confirm(ctx, id), filling.ErrNotStaged)
}

func reveal(past []vault.Past) (out []string) {
	for _, p := range past {
		out = append(out, vault.Plain(p.Value))
	}
	return out
}

func TestWhichLoginAChangeIsOf(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	v := w.create(w.device("desk"))
	a, b := ferryLogin(t, v, "maren", "p-a"), ferryLogin(t, v, "wren", "p-b")
	require.NoError(t, v.Prompts.Submitted(t.Context(), changePage, 1, typed("p-b", "n-b", "n-b")))
	_, staged := passwords(t, v, b)
	assert.Equal(t, "n-b", staged, "by the present password")
	_, staged = passwords(t, v, a)
	assert.Empty(t, staged)
	// A reset has no present password: the one that was filled in the tab is meant.
	_, err := v.Pages.Fill(t.Context(), signInPage, filling.Request{ID: a, Form: 1, Part: filling.PartLogin})
	require.NoError(t, err)
	reset := form(ferry+"/reset", "New password", "Set password", newField, againField)
	require.NoError(t, v.Prompts.Submitted(t.Context(), reset, 1, typed("n-a", "n-a")))
	_, staged = passwords(t, v, a)
	assert.Equal(t, "n-a", staged)
	// Of a login that nobody can tell nothing is changed.
	other := reset
	other.Tab = "8"
	require.NoError(t, v.Prompts.Submitted(t.Context(), other, 1, typed("x", "x")))
	there := insidePage
	there.Tab = "8"
	assert.Nil(t, look(t, v, there).Slip)
}

func TestSlips(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	d := w.device("desk")
	v := w.create(d)
	ctx := t.Context()
	for name, c := range map[string]struct {
		sent  filling.Page
		typed map[int]secret.Text
		then  filling.Page
		want  filling.PromptKind
	}{
		"taken":         {signInPage, typed("maren", "p-1"), insidePage, filling.PromptKeep},
		"signed up":     {signUpPage, typed("maren", "p-1", "p-1"), signInPage, filling.PromptKeep},
		"came back":     {signInPage, typed("maren", "p-1"), signInPage, ""},
		"an error":      {signInPage, typed("maren", "p-1"), saying(signInPage, "The password is wrong"), ""},
		"an empty name": {signInPage, typed("", "p-1"), insidePage, ""},
		"masked":        {signInPage, typed("mt*****er", "p-1"), insidePage, ""},
		"two new ones":  {signUpPage, typed("maren", "p-1", "p-2"), insidePage, ""},
		"a code": {form(ferry+"/code", "Verification code", "Verify", autofill.Field{Type: "text",
			Label: "Verification code"}), typed("123456"), insidePage, ""},
		"a card": {form(ferry+"/pay", "Pay", "Pay", autofill.Field{Type: "text", Label: "Card number"},
			autofill.Field{Type: "password", Label: "CVV"}), typed("4012888888881881", "118"), insidePage, ""},
	} {
		c.sent.Tab, c.then.Tab = name, name
		require.NoError(t, v.Prompts.Submitted(ctx, c.sent, 1, c.typed))
		slip := look(t, v, c.then).Slip
		if c.want == "" {
			assert.Nil(t, slip, name)
		} else if assert.NotNil(t, slip, name) {
			assert.Equal(t, c.want, slip.Kind, name)
			assert.Equal(t, "maren", slip.Username)
		}
	}
	status := signInPage
	status.Tab, status.Snapshot.Status = "s", 401
	require.NoError(t, v.Prompts.Submitted(ctx, status, 1, typed("maren", "p-1")))
	gone := insidePage
	gone.Tab, gone.Snapshot.Status = "s", 403
	assert.Nil(t, look(t, v, gone).Slip, "the status says no")

	// It waits, sealed, while the vault is locked.
	require.NoError(t, v.Prompts.Submitted(ctx, signInPage, 1, typed("maren", "p-9")))
	v.Lock()
	v, err := d.Unlock(ctx, v.Profile().ID, secret.New(master))
	require.NoError(t, err)
	slip := look(t, v, insidePage).Slip
	require.NotNil(t, slip)
	p, err := v.Prompts.Password(insidePage, slip.ID)
	require.NoError(t, err)
	assert.Equal(t, "p-9", p.Reveal())
	bad := *slip
	bad.Address = "trickster.example/sign-in"
	assert.Error(t, v.Prompts.Accept(ctx, insidePage, bad), "to another site")
	require.NoError(t, v.Prompts.Accept(ctx, insidePage, *slip))
	assert.ErrorIs(t, v.Prompts.Accept(ctx, insidePage, *slip), filling.ErrNoPrompt)
	items, err := v.Book.Logins()
	require.NoError(t, err)
	require.Len(t, items, 1)
	require.NoError(t, v.Prompts.Submitted(ctx, signInPage, 1, typed("maren", "p-9")))
	assert.Nil(t, look(t, v, insidePage).Slip, "known already")

	// Kept where one signs up, a login has the front page for its address until one signs in.
	shop := func(p filling.Page) filling.Page {
		p.URL = "https://shop.example" + p.URL[len(ferry):]
		p.Top = p.URL
		return p
	}
	require.NoError(t, v.Prompts.Submitted(ctx, shop(signUpPage), 1, typed("maren", "p-1", "p-1")))
	slip = look(t, v, shop(insidePage)).Slip
	require.NotNil(t, slip)
	assert.ErrorIs(t, v.Prompts.Accept(ctx, insidePage, *slip), filling.ErrNoPrompt, "of another site's page")
	require.NoError(t, v.Prompts.Accept(ctx, shop(insidePage), *slip))
	kept := func() string {
		e, err := v.Items.Entry(slip.ID)
		require.NoError(t, err)
		return vault.View(e).Addresses[0].URL
	}
	assert.Equal(t, "https://shop.example/", kept())
	require.NoError(t, v.Prompts.Submitted(ctx, shop(signInPage), 1, typed("maren", "p-1")))
	assert.Nil(t, look(t, v, shop(insidePage)).Slip)
	assert.Equal(t, "https://shop.example/sign-in", kept())
	require.NoError(t, v.Prompts.Submitted(ctx, signInPage, 1, typed("MAREN", "p-10")))
	slip = look(t, v, insidePage).Slip
	require.NotNil(t, slip)
	assert.Equal(t, filling.PromptUpdate, slip.Kind)
	assert.Equal(t, items[0].ID, slip.Update)

	require.NoError(t, v.Prompts.NeverAsk(ctx, ferry))
	assert.Nil(t, look(t, v, insidePage).Slip)
	assert.Equal(t, []records.SiteRule{{Domain: "ferrylink.example", NoAsk: true}}, v.Sites.Rules())
	require.NoError(t, v.Sites.SetRule(ctx, records.SiteRule{Domain: "ferrylink.example", NoOffer: true}))
	assert.NotNil(t, look(t, v, insidePage).Slip, "asked again")
	out := look(t, v, signInPage)
	assert.Empty(t, out.Offers)
	assert.Equal(t, filling.NothingAsked, out.Nothing)
	require.NoError(t, v.Sites.SetRule(ctx, records.SiteRule{Domain: "ferrylink.example"}))
	assert.Empty(t, v.Sites.Rules())

	taken, err := v.Prompts.ByHand(ctx, signInPage, 1, typed("", "by-hand"))
	require.NoError(t, err)
	assert.Equal(t, filling.PromptKeep, taken.Kind)
	_, err = v.Prompts.ByHand(ctx, signInPage, 1, nil)
	assert.Error(t, err)
}

func TestASignUpIsStagedUntilTheSiteTookIt(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	d := w.device("desk")
	v := w.create(d)
	ctx := t.Context()
	fresh := func(user string) string {
		values, err := v.Pages.FillNew(ctx, signUpPage, filling.NewPasswordRequest{Form: 1, Username: user})
		require.NoError(t, err)
		return values.Fills[len(values.Fills)-1].Value
	}
	logins := func(n int) []vault.Item {
		t.Helper()
		items, err := v.Book.Logins()
		require.NoError(t, err)
		require.Len(t, items, n)
		return items
	}
	made := fresh("wren")
	logins(0) // nothing was sent yet: it lies in the generated passwords
	require.NoError(t, v.Prompts.Submitted(ctx, signUpPage, 1, typed("wren", made, made)))
	it := logins(1)[0]
	now, staged := passwords(t, v, it.ID)
	assert.Equal(t, []string{"", made}, []string{now, staged})
	assert.True(t, it.SigningUp())

	// The name was taken; the next one isn't. It's the same login.
	assert.Nil(t, look(t, v, saying(signUpPage, "This name is taken, error")).Slip)
	require.NoError(t, v.Prompts.Submitted(ctx, signUpPage, 1, typed("wren.t", made, made)))
	it = logins(1)[0]
	assert.Equal(t, "wren.t", it.Username)

	// What it can be signed in with is at hand before the site has said anything.
	otherTab := signInPage
	otherTab.Tab = "8"
	offers := look(t, v, otherTab).Offers
	require.Len(t, offers, 1)
	assert.True(t, offers[0].Joining)
	values, err := v.Pages.Fill(ctx, otherTab, filling.Request{ID: it.ID, Form: 1, Part: filling.PartLogin})
	require.NoError(t, err)
	assert.Equal(t, made, values.Fills[1].Value)

	slip := look(t, v, insidePage).Slip
	require.NotNil(t, slip)
	assert.Equal(t, filling.PromptSignedUp, slip.Kind)
	assert.Equal(t, it.ID, slip.Update)
	now, staged = passwords(t, v, it.ID)
	assert.Equal(t, []string{made, ""}, []string{now, staged})
	require.NotNil(t, look(t, v, insidePage).Slip, "it stands until it is answered")
	bad, good := *slip, *slip
	bad.Address = "trickster.example/"
	assert.Error(t, v.Prompts.Accept(ctx, insidePage, bad))
	good.Title, good.Folder = "The ferry", " Travel / Islands"
	require.NoError(t, v.Prompts.Accept(ctx, insidePage, good))
	it = logins(1)[0]
	assert.Equal(t, []string{"The ferry", "Travel/Islands", "wren.t"}, []string{it.Title, it.Folder, it.Username})
	assert.Nil(t, look(t, v, insidePage).Slip)
	require.NoError(t, v.Prompts.Submitted(ctx, signInPage, 1, typed("wren.t", made)))
	assert.Nil(t, look(t, v, insidePage).Slip, "known already")
	assert.Equal(t, ferry+"/sign-in", logins(1)[0].Addresses[0].URL)

	// A second account, whose site says nothing: the first sign-in settles it.
	second := fresh("second")
	require.NoError(t, v.Prompts.Submitted(ctx, signUpPage, 1, typed("second", second, second)))
	logins(2)
	require.NoError(t, v.Prompts.Submitted(ctx, signInPage, 1, typed("second", second)))
	slip = look(t, v, insidePage).Slip
	require.NotNil(t, slip)
	assert.Equal(t, filling.PromptSignedUp, slip.Kind)
	now, _ = passwords(t, v, slip.Update)
	assert.Equal(t, second, now)

	// Where prompts aren't wanted the login is kept all the same; a typed password is asked about.
	require.NoError(t, v.Prompts.NeverAsk(ctx, ferry))
	third := fresh("third")
	require.NoError(t, v.Prompts.Submitted(ctx, signUpPage, 1, typed("third", third, third)))
	assert.Nil(t, look(t, v, insidePage).Slip)
	for _, it := range logins(3) {
		assert.False(t, it.SigningUp(), it.Username)
	}
	require.NoError(t, v.Prompts.Submitted(ctx, signUpPage, 1, typed("fourth", "of my own", "of my own")))
	logins(3)
}

func TestWhatAFrameSentIsJudgedByTheFrame(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	v := w.create(w.device("desk"))
	in := func(p filling.Page) filling.Page {
		p.Frame, p.Top = true, ferry+"/"
		return p
	}
	around := form(ferry+"/", "Ferrylink", "")
	require.NoError(t, v.Prompts.Submitted(t.Context(), in(signInPage), 1, typed("maren", "p-1")))
	assert.Nil(t, look(t, v, around).Slip, "the page around it can't tell")
	assert.Nil(t, look(t, v, in(saying(signInPage, "Wrong password"))).Slip)
	assert.Nil(t, look(t, v, around).Slip, "refused")
	require.NoError(t, v.Prompts.Submitted(t.Context(), in(signInPage), 1, typed("maren", "p-2")))
	out := look(t, v, in(insidePage))
	assert.Nil(t, out.Slip, "not in the frame, which may be small")
	assert.True(t, out.Up)
	slip := look(t, v, around).Slip
	require.NotNil(t, slip)
	assert.Equal(t, "maren", slip.Username)
	require.NoError(t, v.Prompts.Submitted(t.Context(), in(signInPage), 1, typed("wren", "p-3")))
	slip = look(t, v, insidePage).Slip
	require.NotNil(t, slip, "or the tab moved on as a whole")
	assert.Equal(t, "wren", slip.Username)
}

func TestTheDrawer(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	d := w.device("desk")
	v := w.create(d)
	values, err := v.Pages.FillNew(t.Context(), signUpPage, filling.NewPasswordRequest{Form: 1, Username: "maren"})
	require.NoError(t, err)
	made := values.Fills[len(values.Fills)-1].Value
	v.Lock() // the user walks away
	v, err = d.Unlock(t.Context(), v.Profile().ID, secret.New(master))
	require.NoError(t, err)
	list, err := v.Generated.List()
	require.NoError(t, err)
	require.Len(t, list, 1)
	assert.Equal(t, made, list[0].Password)
	assert.Equal(t, ferry+"/sign-up", list[0].URL)
	one, err := v.Generated.At(list[0].At)
	require.NoError(t, err)
	assert.Equal(t, made, one.Reveal())
	_, err = v.Generated.At(1)
	assert.ErrorIs(t, err, filling.ErrNoGenerated)
	w.now.Add(29 * 24 * time.Hour.Milliseconds())
	list, _ = v.Generated.List()
	assert.Len(t, list, 1)
	w.now.Add(2 * 24 * time.Hour.Milliseconds())
	list, _ = v.Generated.List()
	assert.Empty(t, list, "after 30 days")
	for range 300 {
		_, err := v.Generated.Keep(t.Context(), filling.GeneratedPassword{Password: "x"}, 0)
		require.NoError(t, err)
	}
	list, _ = v.Generated.List()
	assert.Len(t, list, 200)
	require.NoError(t, v.Generated.Clear(t.Context()))
	list, _ = v.Generated.List()
	assert.Empty(t, list)

	at, err := v.Generated.Keep(t.Context(), filling.GeneratedPassword{Password: "slid over"}, 0)
	require.NoError(t, err)
	at, err = v.Generated.Keep(t.Context(), filling.GeneratedPassword{Password: "looked at"}, at)
	require.NoError(t, err)
	w.now.Add(5 * time.Second.Milliseconds())
	_, err = v.Generated.Keep(t.Context(), filling.GeneratedPassword{Password: "the next"}, at)
	require.NoError(t, err)
	list, _ = v.Generated.List()
	require.Len(t, list, 2, "what was seen for a moment only isn't kept")
	assert.Equal(t, []string{"the next", "looked at"}, []string{list[0].Password, list[1].Password})
}

func TestGoingAndFillingWithoutAsking(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	v := w.create(w.device("desk"))
	id := ferryLogin(t, v, "maren", "p-1")
	assert.Nil(t, look(t, v, signInPage).Go)
	require.NoError(t, v.Pages.ExpectFill(id))
	step := form(ferry+"/sign-in", "Sign in", "Next", autofill.Field{Type: "text", Autocomplete: "username"})
	opened, sibling := signInPage, signInPage
	opened.Opened, step.Opened, sibling.Opened = true, true, true
	sibling.URL, sibling.Top = "https://forum.ferrylink.example/sign-in", "https://forum.ferrylink.example/sign-in"
	assert.Nil(t, look(t, v, signInPage).Go, "another tab")
	assert.Nil(t, look(t, v, sibling).Go, "another host of the site")
	require.NotNil(t, look(t, v, step).Go, "the first of two pages")
	require.NotNil(t, look(t, v, opened).Go, "and the second")
	assert.Nil(t, look(t, v, opened).Go, "once")
	require.NoError(t, v.Pages.ExpectFill(id))
	w.now.Add(time.Hour.Milliseconds())
	assert.Nil(t, look(t, v, opened).Go, "too late")

	require.NoError(t, v.Items.Save(t.Context(), id, vault.Changes{vault.FieldAlone: "yes", vault.FieldSubmit: "yes"}))
	g := look(t, v, signInPage).Go
	require.NotNil(t, g)
	assert.True(t, g.Submit)
	values, err := v.Pages.Fill(
		t.Context(),
		signInPage,
		filling.Request{ID: id, Form: 1, Part: filling.PartLogin, Submit: true},
	)
	require.NoError(t, err)
	assert.True(t, values.Submit)
	values, err = v.Pages.Fill(t.Context(), signInPage, filling.Request{ID: id, Form: 1, Part: filling.PartLogin})
	require.NoError(t, err)
	assert.False(t, values.Submit, "a press at the field fills, and no more")

	assert.Nil(t, look(t, v, sibling).Go, "it was kept for another host")
	frame, plain, elsewhere := signInPage, signInPage, signInPage
	frame.Frame = true
	plain.URL, plain.Top = "http://ferrylink.example/sign-in", "http://ferrylink.example/sign-in"
	elsewhere.Snapshot.Forms = []autofill.Form{{ID: 1, Submit: "Sign in", Action: "https://trickster.example"}}
	for name, p := range map[string]filling.Page{"in a frame": frame, "over plain http": plain,
		"sent elsewhere": elsewhere, "after an error": saying(signInPage, "Wrong password")} {
		assert.Nil(t, look(t, v, p).Go, name)
	}
	assert.Equal(t, filling.NothingNoHTTPS, look(t, v, plain).Nothing)
	_, err = v.Pages.Fill(t.Context(), elsewhere, filling.Request{ID: id, Form: 1, Part: filling.PartLogin})
	assert.ErrorContains(t, err, "trickster.example")
	require.NoError(t, v.Prompts.Submitted(t.Context(), signInPage, 1, typed("maren", "p-1")))
	assert.Nil(t, look(t, v, signInPage).Go, "the form came back: it isn't filled and sent over and over")
}

func TestTheAlarm(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	v := w.create(w.device("desk"))
	id := ferryLogin(t, v, "maren", "p-1")
	fake := form("https://ferrylnik.example/sign-in", "Sign in", "Sign in", userField, passField)
	out := look(t, v, fake)
	require.NotNil(t, out.Alarm)
	assert.Equal(t, "ferrylink.example", out.Alarm.Kept)
	assert.Equal(t, id, out.Alarm.ID)
	assert.Equal(t, ferry+"/sign-in", out.Alarm.URL)
	assert.Empty(t, out.Offers)
	assert.Empty(t, out.Readings)
	_, err := v.Pages.Fill(t.Context(), fake, filling.Request{ID: id, Form: 1, Part: filling.PartLogin})
	assert.ErrorIs(t, err, filling.ErrWrongSite)
	_, err = v.Pages.FillNew(t.Context(), fake, filling.NewPasswordRequest{Form: 1})
	assert.ErrorIs(t, err, filling.ErrWrongSite)
	alarm, err := v.Pages.Alarm(fake)
	require.NoError(t, err)
	assert.NotNil(t, alarm)
	assert.False(t, v.Pages.NeedsReading(insidePage))
	require.NoError(t, v.Prompts.Submitted(t.Context(), fake, 1, typed("maren", "p-1")))
	assert.Nil(t, look(t, v, fake).Slip, "what was typed there isn't kept")
	assert.Nil(t, look(t, v, form("https://quayferries.example/", "Sign in", "")).Alarm, "the directory knows it")

	w.now.Add(time.Hour.Milliseconds())
	assert.ErrorIs(t, v.Pages.Vouch(t.Context(), id, fake.URL), reauth.ErrNeeded)
	require.NoError(t, v.Reauthenticate(secret.New(master)))
	require.NoError(t, v.Pages.Vouch(t.Context(), id, fake.URL))
	out = look(t, v, fake)
	assert.Nil(t, out.Alarm)
	assert.Len(t, out.Offers, 1)
}

func TestCardsAndDetailsOnlyWhereTheyAreAskedFor(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	v := w.create(w.device("desk"))
	login := ferryLogin(t, v, "maren", "p-1")
	card, person := records.NewID(), records.NewID()
	require.NoError(
		t,
		v.Items.SaveAs(
			t.Context(),
			card,
			vault.TypeCard,
			vault.Changes{
				vault.FieldTitle:  "Debit",
				vault.FieldHolder: "M Tolliver",
				vault.FieldNumber: "4012888888881881",
				vault.FieldExpiry: "2037-09",
				vault.FieldCode:   "118",
			},
		),
	)
	require.NoError(
		t,
		v.Items.SaveAs(
			t.Context(),
			person,
			vault.TypePerson,
			vault.Changes{
				vault.FieldTitle: "Maren",
				"given-name":     "Maren",
				"family-name":    "Tolliver",
				"street-address": "7 Ropewalk",
				"postal-code":    "SQ1 7RW",
			},
		),
	)
	pay := form(
		"https://anyshop.example/pay",
		"Checkout",
		"Pay",
		autofill.Field{Type: "text", Label: "Card number"},
		autofill.Field{Type: "text", Label: "Expiry date"},
		autofill.Field{Type: "text", Label: "Security code"},
		autofill.Field{Type: "text", Label: "Street address"},
		autofill.Field{Type: "text", Label: "Postcode"},
	)
	out := look(t, v, pay)
	assert.Len(t, out.Cards, 1)
	assert.Len(t, out.People, 1)
	out = look(t, v, signInPage)
	assert.Empty(t, out.Cards)
	assert.Empty(t, out.People)
	fill := func(id string, what filling.Part) []filling.FieldValue {
		values, err := v.Pages.Fill(t.Context(), pay, filling.Request{ID: id, Form: 1, Part: what})
		require.NoError(t, err)
		return values.Fills
	}
	assert.Equal(
		t,
		[]filling.FieldValue{
			{Field: 0, Role: "cc-number", Value: "4012888888881881"},
			{Field: 1, Role: "cc-exp", Value: "09/37"},
		},
		fill(card, filling.PartCard),
		"without the security code",
	)
	assert.Equal(t, []filling.FieldValue{{Field: 2, Role: "cc-csc", Value: "118"}}, fill(card, filling.PartSafety))
	assert.Equal(
		t,
		[]filling.FieldValue{
			{Field: 3, Role: "street-address", Value: "7 Ropewalk"},
			{Field: 4, Role: "postal-code", Value: "SQ1 7RW"},
		},
		fill(person, filling.PartDetails),
	)
	for _, wrong := range []filling.Request{{ID: card, Form: 1, Part: filling.PartLogin}, {ID: login, Form: 1,
		Part: filling.PartCard}, {ID: login, Form: 1, Part: filling.PartLogin}, {ID: person, Form: 1,
		Part: filling.PartCard}} {
		_, err := v.Pages.Fill(t.Context(), pay, wrong)
		assert.ErrorIs(t, err, filling.ErrWrongSite)
	}
	_, err := v.Pages.Fill(t.Context(), signInPage, filling.Request{ID: card, Form: 1, Part: filling.PartCard})
	assert.ErrorIs(t, err, filling.ErrWrongSite, "a page that asks for none")
}

// answers stand in for what sites publish.
type answers map[string]string

func (a answers) Get(_ context.Context, url string) (int, []byte, error) {
	switch body, ok := a[url]; {
	case ok && body == "down":
		return 0, nil, errors.New("nobody answers")
	case ok:
		return 200, []byte(body), nil
	}
	return 404, nil, nil
}

func TestWhereThePasswordIsChanged(t *testing.T) {
	t.Parallel()
	const known, nowhere = "/.well-known/change-password",
		"/.well-known/resource-that-should-not-exist-whose-status-code-should-not-be-200"
	for name, c := range map[string]struct {
		site  string
		there answers
		want  string
	}{
		"well known": {"https://shop.example/in", answers{"https://shop.example" + known: ""},
			"https://shop.example" + known},
		"says yes to all": {"https://shop.example/in", answers{"https://shop.example" + known: "",
			"https://shop.example" + nowhere: ""}, "https://shop.example/in"},
		"nobody answers": {"https://shop.example/in", answers{"https://shop.example" + known: "down"},
			"https://shop.example/in"},
		"only the directory": {ferry + "/", answers{}, "https://ferrylink.example/account/password"},
	} {
		w := newWorld(t)
		w.sites = c.there
		v := w.create(w.device("desk"))
		id := records.NewID()
		require.NoError(
			t,
			v.Items.Save(t.Context(), id, vault.Draft{Title: "x", Addresses: []vault.Address{{URL: c.site}}}.Changes()),
		)
		to, err := v.Pages.ChangePage(t.Context(), id)
		require.NoError(t, err)
		assert.Equal(t, c.want, to, name)
	}
}

func TestProgramsWithASitesAccounts(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.sites = answers{
		"https://shop.example/.well-known/assetlinks.json": `[{"relation":["delegate_permission/common.get_login_creds"],"target":{"namespace":"android_app","package_name":"example.shop.app"}},{"relation":["delegate_permission/common.handle_all_urls"],"target":{"namespace":"android_app","package_name":"example.other"}}]`,
	}
	v := w.create(w.device("desk"))
	site, program, other := records.NewID(), records.NewID(), records.NewID()
	require.NoError(
		t,
		v.Items.Save(
			t.Context(),
			site,
			vault.Draft{
				Title:     "Shop",
				Username:  "m",
				Addresses: []vault.Address{{URL: "https://shop.example/in"}},
			}.Changes(),
		),
	)
	for id, name := range map[string]string{program: "example.shop.app", other: "example.other"} {
		require.NoError(
			t,
			v.Items.SaveAs(
				t.Context(),
				id,
				vault.TypeApp,
				vault.Changes{
					vault.FieldTitle:    name,
					vault.FieldApp:      name,
					vault.FieldUsername: "a",
					vault.FieldPassword: "p",
				},
			),
		)
	}
	page := form("https://shop.example/in", "Sign in", "Sign in", userField, passField)
	assert.Len(t, look(t, v, page).Offers, 1)
	n, err := v.Pages.AskApps(t.Context(), site)
	require.NoError(t, err)
	assert.Equal(t, 1, n)
	offers := look(t, v, page).Offers
	require.Len(t, offers, 2, "one account, as the site says")
	assert.Equal(t, program, offers[1].ID)
	values, err := v.Pages.Fill(t.Context(), page, filling.Request{ID: program, Form: 1, Part: filling.PartLogin})
	require.NoError(t, err)
	assert.Len(t, values.Fills, 2)
	// The directory says so of another one.
	gull := records.NewID()
	require.NoError(
		t,
		v.Items.SaveAs(
			t.Context(),
			gull,
			vault.TypeApp,
			vault.Changes{
				vault.FieldTitle:    "Pocket",
				vault.FieldApp:      "example.gullwing.pocket",
				vault.FieldPassword: "p",
			},
		),
	)
	offers = look(t, v, form("https://gullwing.example/sign-in", "Sign in", "Sign in", userField, passField)).Offers
	require.Len(t, offers, 1)
	assert.Equal(t, gull, offers[0].ID)
}

// TestAnErrorFromBeforeIsNoAnswer: a right sign-in after a wrong one isn't judged by what the page said of that.
func TestAnErrorFromBeforeIsNoAnswer(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	v := w.create(w.device("desk"))
	ctx := t.Context()
	page := filling.Page{
		URL: ferry + "/sign-in", Top: ferry + "/sign-in", Tab: "1",
		Snapshot: autofill.Snapshot{
			Title: "Ferrylink", Doc: "the error page", Alerts: "Wrong user name or password", Status: 401,
			Forms: []autofill.Form{{ID: 1, Head: "Sign in", Submit: "Sign in"}},
			Fields: []autofill.Field{
				{ID: 1, Form: 1, Type: "text", Label: "User name", Visible: true},
				{ID: 2, Form: 1, Type: "password", Label: "Password", Visible: true},
			},
		},
	}
	values := map[int]secret.Text{1: secret.New("wren"), 2: secret.New("tide-Table-7")}
	require.NoError(t, v.Prompts.Submitted(ctx, page, 1, values))
	assert.Nil(t, look(t, v, page).Slip, "the page is the one that it was sent from")
	inside := page
	inside.URL, inside.Top = ferry+"/welcome", ferry+"/welcome"
	inside.Snapshot = autofill.Snapshot{Title: "Ferrylink", Doc: "the next one"}
	slip := look(t, v, inside).Slip
	require.NotNil(t, slip)
	assert.Equal(t, filling.PromptKeep, slip.Kind)

	// The same words on another page are an answer.
	require.NoError(t, v.Prompts.Submitted(ctx, page, 1, values))
	again := page
	again.Snapshot.Doc = "the error page once more"
	assert.Nil(t, look(t, v, again).Slip)
	assert.Nil(t, look(t, v, inside).Slip, "refused")
}
