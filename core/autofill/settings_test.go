package autofill

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"redlocket/core/secret"
)

// TestPresentPasswordAnywhere are forms that change a password in other orders than the usual one. A password that was
// made must never go into the box for the present one.
func TestPresentPasswordAnywhere(t *testing.T) {
	readMadeUp(t, map[string]madeUp{
		"last": {
			"Change password", "Save",
			[]Field{pass("New password"), pass("New password again"), pass("Present password")},
			"change 0=new-password 1=new-password 2=current-password",
		},
		"last, by another word": {
			"Change password", "Save",
			[]Field{pass("New password"), pass("Confirm new password"), pass("Your password now")},
			"change 0=new-password 1=new-password 2=current-password",
		},
		"last, called a password": {
			"Profile", "Save",
			[]Field{pass("New password"), pass("Repeat new password"), pass("Password")},
			"change 0=new-password 1=new-password 2=current-password",
		},
		"last, in a language without words": {
			"", "ಉಳಿಸಿ",
			[]Field{pass("ಹೊಸ ಗುಪ್ತಪದ"), pass("ಹೊಸ ಗುಪ್ತಪದ ಮತ್ತೆ"), pass("ಈಗಿನ ಗುಪ್ತಪದ")},
			"change 0=new-password 1=new-password 2=current-password",
		},
		"first, in a language without words": {
			"", "ಉಳಿಸಿ",
			[]Field{pass("ಈಗಿನ ಗುಪ್ತಪದ"), pass("ಹೊಸ ಗುಪ್ತಪದ"), pass("ಹೊಸ ಗುಪ್ತಪದ ಮತ್ತೆ")},
			"change 0=current-password 1=new-password 2=new-password",
		},
		"last, by names": {
			"", "",
			[]Field{named("password", "pw1"), named("password", "pw2"), named("password", "auth")},
			"change 0=new-password 1=new-password 2=current-password",
		},
		"first, by names": {
			"", "",
			[]Field{named("password", "auth"), named("password", "pw1"), named("password", "pw2")},
			"change 0=current-password 1=new-password 2=new-password",
		},
		"by what is demanded": {
			"", "",
			[]Field{
				{Type: "password", MinLength: 10}, {Type: "password", MinLength: 10}, {Type: "password"},
			},
			"change 0=new-password 1=new-password 2=current-password",
		},
		"two boxes, the second isn't said to be new": {
			"Account", "Save", []Field{pass("New password"), pass("Password")},
			"change 0=new-password 1=current-password",
		},
		"two boxes that are alike": {
			"Account", "Save", []Field{named("password", "new_password"), named("password", "new_password_confirm")},
			"reset 0=new-password 1=new-password",
		},
		"a sign-up's own order": {
			"Create your account", "Create account", []Field{mail("E-mail"), pass("Choose a password"), pass("Password")},
			"sign-up 0=username 1=new-password 2=new-password",
		},
		"stars that stand for what is kept": {
			"Account", "Save", []Field{text("Display name"), {Type: "password", Locked: true, Filled: true}}, "",
		},
	})
}

// TestNamedForWhatTheyAre are forms that look like a sign-in or a sign-up and are something else.
func TestNamedForWhatTheyAre(t *testing.T) {
	readMadeUp(t, map[string]madeUp{
		"asked again": {
			"Confirm it’s you", "Go on", []Field{pass("Password")}, "password-again 0=current-password",
		},
		"asked again, German": {
			"Zur Sicherheit", "Bestätigen", []Field{pass("Passwort")}, "password-again 0=current-password",
		},
		"a second page of a sign-in": {
			"Sign in", "Sign in", []Field{pass("Enter your password")}, "sign-in 0=current-password",
		},
		"a link by mail": {
			"Welcome", "Send me a link", []Field{mail("E-mail")}, "sign-in-by-mail 0=username",
		},
		"forgotten, a link by mail": {
			"Forgotten password", "Send link", []Field{mail("E-mail")}, "forgot 0=username",
		},
		"a program set up": {
			"Installation", "Install",
			[]Field{text("Site Title"), text("Username"), pass("Password"), mail("Your Email")},
			"set-up 1=username 2=new-password 3=email",
		},
		"a program's database": {
			"Setup", "Next",
			[]Field{text("Database name"), text("Database user"), pass("Database password"), text("Table prefix")},
			"",
		},
		"a program's database, said beside": {
			"Setup configuration", "Submit",
			[]Field{
				text("Database Name"), {Type: "text", Label: "Username", Near: "Your database username."},
				{Type: "text", Label: "Password", Near: "Your database password."}, text("Database Host"),
			},
			"",
		},
		"for somebody else": {
			"Add a user", "Add user", []Field{text("User name"), pass("Password"), pass("Password again")},
			"for-somebody-else 0=username 1=new-password 2=new-password",
		},
		"one's own": {
			"New customer? Sign up", "Sign up", []Field{mail("E-mail"), pass("Password")},
			"sign-up 0=username 1=new-password",
		},
		"a first step without words of signing in": {
			"Hello", "Continue", []Field{text("User name")}, "first-step 0=username",
		},
		"a first step by telephone": {
			"Hello", "Next", []Field{{Type: "tel", Label: "Mobile"}}, "first-step 0=username",
		},
		"a guest's checkout": {"Checkout", "Continue as guest", []Field{mail("E-mail")}, ""},
		"news":               {"Tides", "Subscribe", []Field{mail("E-mail")}, ""},
	})
}

// TestSomebodyElsesPassword is a page on which who is signed in sets another account's password: its address tells.
func TestSomebodyElsesPassword(t *testing.T) {
	s := page("Change password: wrenbird", "Change password", pass("Password"), pass("Password (again)"))
	s.Path = "/admin/auth/user/2/password/"
	kind := func() string { return told(s, Read(s)[0]) }
	assert.Equal(t, "reset 0=new-password 1=new-password", kind(), "nobody is signed in")
	s.SignedIn = true
	assert.Equal(t, "for-somebody-else 0=new-password 1=new-password", kind())
	s.Path = "/account/password"
	assert.Equal(t, "reset 0=new-password 1=new-password", kind(), "one's own")
}

// TestFirstStepAtKnownSite is a page with one box in letters whose words nobody here knows: at a site that the vault
// has logins for, it asks who it is.
func TestFirstStepAtKnownSite(t *testing.T) {
	s := page("ჩემი გვერდი", "გაგრძელება", text("სახელი"))
	assert.Empty(t, Read(s))
	s.Known = true
	got := Read(s)
	if assert.Len(t, got, 1) {
		assert.Equal(t, "first-step 0=username", told(s, got[0]))
	}
	two := page("ჩემი გვერდი", "გაგრძელება", text("სახელი"), text("ქალაქი"))
	two.Known = true
	assert.Empty(t, Read(two), "two boxes may be anything")
}

// TestValuesTellPresentFromNew: of three passwords the two that are the same are the new one, whatever the form says.
func TestValuesTellPresentFromNew(t *testing.T) {
	old, fresh := secret.New("tide-Table-07"), secret.New("reed-Lantern-44")
	s := page("", "", Field{Type: "password"}, Field{Type: "password"}, Field{Type: "password"})
	for i := range 3 {
		values := map[int]secret.Text{0: fresh, 1: fresh, 2: fresh}
		values[i] = old
		a, ok := Submitted(s, Read(s)[0], values)
		assert.True(t, ok)
		assert.True(t, a.Current.Equal(old) && a.Password.Equal(fresh), "the present one at %d", i)
	}
	s = page("Change password", "Save", Field{Type: "password"}, Field{Type: "password"})
	a, _ := Submitted(s, Read(s)[0], map[int]secret.Text{0: fresh, 1: fresh})
	assert.Equal(t, Reset, a.Kind, "the same twice: it isn't asked for the present one")
	assert.True(t, a.Current.IsEmpty())
}

// TestNothingIsToldOfARestlessPage: a page that isn't drawn yet lacks its form, and that means nothing.
func TestNothingIsToldOfARestlessPage(t *testing.T) {
	s := Snapshot{Title: "Lanternfish", Restless: true}
	assert.Equal(t, Waiting, Judge(SignIn, s, nil))
	s.Alerts = "Wrong user name or password"
	assert.Equal(t, Refused, Judge(SignIn, s, nil), "what is said counts")
	s.Alerts, s.Restless = "", false
	assert.Equal(t, Taken, Judge(SignIn, s, nil))
}
