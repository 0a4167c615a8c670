package app_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"redlocket/app/filling"
	"redlocket/core/autofill"
)

// in puts a page into a document.
func in(doc string, p filling.Page) filling.Page {
	p.Snapshot.Doc = doc
	return p
}

// madeOf is the password that was made in what a fill hands out.
func madeOf(t *testing.T, out filling.Values) string {
	t.Helper()
	for _, f := range out.Fills {
		if f.Role == string(autofill.NewPassword) {
			return f.Value
		}
	}
	t.Fatal("no password was made")
	return ""
}

// How sites ask for passwords in other ways than with one form on one page.

func TestThePresentPasswordIsAskedForInADialog(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	v := w.create(w.device("desk"))
	ctx := t.Context()
	ferryLogin(t, v, "idris", "his-1")
	id := ferryLogin(t, v, "maren", "hers-1")
	reset := in("one", form(ferry+"/security", "Security", "Save", newField, againField))
	require.NoError(t, v.Prompts.Submitted(ctx, reset, 1, typed("hers-2", "hers-2")))
	_, staged := passwords(t, v, id)
	assert.Empty(t, staged, "of two logins it isn't known yet which it is")

	dialog := in("one", form(ferry+"/security", "Confirm it’s you", "Confirm", passField))
	require.NoError(t, v.Prompts.Submitted(ctx, dialog, 1, typed("hers-1")))
	now, staged := passwords(t, v, id)
	assert.Equal(t, "hers-1", now)
	assert.Equal(t, "hers-2", staged, "the present password tells")

	first := look(t, v, in("one", dialog)).Menus[0].Lines
	for _, l := range first {
		if l.ID == id {
			assert.Equal(t, filling.PasswordPresent, l.State, "the dialog asks for the present one")
			break
		}
	}
	for _, l := range look(t, v, in("two", signInPage)).Menus[1].Lines {
		if l.ID == id {
			assert.Equal(t, filling.PasswordStaged, l.State, "a sign-in later for the one that was sent")
			break
		}
	}
}

func TestAPasswordWithoutAUserName(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	v := w.create(w.device("desk"))
	ctx := t.Context()
	gate := form(ferry+"/gate", "Harbour gate", "Open", passField)
	send := func(password string) *filling.SavePrompt {
		w.now.Add(time.Hour.Milliseconds()) // what was known of the tab is too old by then
		require.NoError(t, v.Prompts.Submitted(ctx, gate, 1, typed(password)))
		return look(t, v, insidePage).Slip
	}
	slip := send("open-1")
	require.NotNil(t, slip, "a site without user names")
	assert.Equal(t, filling.PromptKeep, slip.Kind)
	assert.Empty(t, slip.Username)
	require.NoError(t, v.Prompts.Accept(ctx, gate, *slip))
	assert.Nil(t, send("open-1"), "it is known")
	slip = send("open-2")
	require.NotNil(t, slip)
	assert.Equal(t, filling.PromptUpdate, slip.Kind, "another password of the only login")
	ferryLogin(t, v, "maren", "hers-1")
	assert.Nil(t, send("open-3"), "it could belong to either")
	assert.Nil(t, send("hers-1"))
}

func TestAnAccountForSomebodyElse(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	v := w.create(w.device("desk"))
	ctx := t.Context()
	ferryLogin(t, v, "maren", "hers-1")
	admin := form(ferry+"/users/new", "Add user", "Add user", userField, passField, againField)
	admin.Snapshot.SignedIn = true
	view := look(t, v, admin)
	assert.Nil(t, view.Menus[0], "one's own names aren't offered for it")
	require.NotNil(t, view.Menus[1])
	assert.Equal(t, filling.TopicNew, view.Menus[1].Topic, "a password can be made")
	made, err := v.Pages.FillNew(ctx, admin, filling.NewPasswordRequest{Form: 1, Username: "wren"})
	require.NoError(t, err)
	p := madeOf(t, made)
	require.NoError(t, v.Prompts.Submitted(ctx, admin, 1, typed("wren", p, p)))
	assert.Nil(t, look(t, v, insidePage).Slip)
	items, err := v.Book.Logins()
	require.NoError(t, err)
	assert.Len(t, items, 1, "it isn't the user's own")
}

func TestOneMadePasswordForAllItsBoxes(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	v := w.create(w.device("desk"))
	ctx := t.Context()
	alone := form(ferry+"/join", "Create account", "Next", passField)
	repeat := form(ferry+"/join", "Create account", "Next", againField)
	make := func(p filling.Page, field int) string {
		out, err := v.Pages.FillNew(ctx, p, filling.NewPasswordRequest{Form: 1, Field: field})
		require.NoError(t, err)
		return madeOf(t, out)
	}
	first := make(alone, 0)
	assert.NotEqual(t, first, make(alone, 0), "pressed again at the same box: another one")
	last := make(alone, 0)
	assert.Equal(t, last, make(repeat, 0), "a box that repeats it, a step later")
	both := form(ferry+"/join", "Create account", "Next", passField, passField)
	both.Snapshot.Fields[0].Filled = true
	assert.Equal(t, last, make(both, 1), "an empty box beside one that is filled")
	w.now.Add(time.Hour.Milliseconds())
	assert.NotEqual(t, last, make(repeat, 0), "long ago")
}

func TestAMadePasswordSignsInUnderAnotherName(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	v := w.create(w.device("desk"))
	ctx := t.Context()
	join := form(ferry+"/join", "Sign up", "Sign up",
		autofill.Field{Type: "text", Label: "Name"}, passField, autofill.Field{Type: "email", Label: "E-mail"})
	out, err := v.Pages.FillNew(ctx, join, filling.NewPasswordRequest{Form: 1, Username: "m@cormorant.example"})
	require.NoError(t, err)
	p := madeOf(t, out)
	require.NoError(t, v.Prompts.Submitted(ctx, join, 1, typed("marenq", p, "m@cormorant.example")))
	require.NoError(t, v.Prompts.Submitted(ctx, signInPage, 1, typed("marenq", p)))
	look(t, v, insidePage)
	items, err := v.Book.Logins()
	require.NoError(t, err)
	require.Len(t, items, 1, "it is one login still")
	assert.Equal(t, "marenq", items[0].Username)
	assert.Contains(t, items[0].Aliases, "m@cormorant.example", "what it was called stays findable")
	assert.False(t, items[0].Staged)

	// A password that people choose may be that of two accounts.
	ferryLogin(t, v, "idris", "same-1")
	require.NoError(t, v.Prompts.Submitted(ctx, signInPage, 1, typed("wren", "same-1")))
	slip := look(t, v, insidePage).Slip
	require.NotNil(t, slip)
	assert.Equal(t, filling.PromptKeep, slip.Kind, "a login of its own")
}

func TestASignUpInSteps(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	v := w.create(w.device("desk"))
	ctx := t.Context()
	step := func(f autofill.Field) filling.Page { return form(ferry+"/join", "Create account", "Next", f) }
	mail := autofill.Field{Type: "text", Label: "E-mail"}
	phone := autofill.Field{Type: "text", Label: "Phone"}
	require.NoError(t, v.Prompts.Submitted(ctx, step(mail), 1, typed("m@cormorant.example")))
	require.NoError(t, v.Prompts.Submitted(ctx, step(phone), 1, typed("+44 7700 900123")))
	last := form(ferry+"/join", "Choose a password", "Done", newField, againField)
	out, err := v.Pages.FillNew(ctx, last, filling.NewPasswordRequest{Form: 1})
	require.NoError(t, err)
	p := madeOf(t, out)
	require.NoError(t, v.Prompts.Submitted(ctx, last, 1, typed(p, p)))
	items, err := v.Book.Logins()
	require.NoError(t, err)
	require.Len(t, items, 1, "whatever becomes of the page, it is in the vault")
	assert.Equal(t, "m@cormorant.example", items[0].Username, "not the telephone number")
	assert.True(t, items[0].SigningUp())
}

// TestARestlessPageIsAskedOnceMore: nothing is said of a sign-in while its page isn't drawn yet.
func TestARestlessPageIsAskedOnceMore(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	v := w.create(w.device("desk"))
	require.NoError(t, v.Prompts.Submitted(t.Context(), signInPage, 1, typed("maren", "tide-1")))
	blank := insidePage
	blank.Snapshot.Restless = true
	assert.Nil(t, look(t, v, blank).Slip)
	assert.Nil(t, look(t, v, signInPage).Slip, "its form was drawn: it came back")
	assert.NotNil(t, look(t, v, insidePage).Slip)
}
