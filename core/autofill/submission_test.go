package autofill

import (
	"crypto/rand"
	"testing"
	"unicode"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"redlocket/core/generator"
)

func TestJudge(t *testing.T) {
	signIn := []Reading{{Kind: SignIn}}
	for name, c := range map[string]struct {
		kind Kind
		s    Snapshot
		r    []Reading
		want Outcome
	}{
		"welcome":        {SignIn, Snapshot{Title: "Good day"}, nil, Taken},
		"the form again": {SignIn, Snapshot{}, signIn, Waiting},
		"with an error": {SignIn, Snapshot{Alerts: "The user name or the password is not " +
			"right."}, signIn, Refused},
		"an error alone": {SignIn, Snapshot{Alerts: "Falsches Passwort"}, nil, Refused},
		"a demand elsewhere": {SignIn, Snapshot{Alerts: "You must have a confirmed address: action " +
			"required"}, nil, Taken},
		"a demand of the form": {SignUp, Snapshot{Alerts: "Passwords need at least 12 " +
			"characters"}, []Reading{{Kind: SignUp}}, Refused},
		"status":              {SignIn, Snapshot{Status: 401}, signIn, Refused},
		"a code is asked for": {SignIn, Snapshot{}, []Reading{{Kind: CodeForm}}, Waiting},
		"first step again":    {SignIn, Snapshot{}, []Reading{{Kind: FirstStep}}, Waiting},
		"search is there":     {SignIn, Snapshot{Alerts: "Welcome back"}, []Reading{{Kind: Other}}, Taken},
		"changed, form stays": {Change, Snapshot{Alerts: "Your password was " +
			"changed."}, []Reading{{Kind: Change}}, Taken},
		"change refused": {Change, Snapshot{Alerts: "The current password is " +
			"wrong"}, []Reading{{Kind: Change}}, Refused},
		"changed, signed out": {Change, Snapshot{}, signIn, Taken},
		"signed up, taken": {SignUp, Snapshot{Alerts: "Somebody has that user name already " +
			"taken"}, []Reading{{Kind: SignUp}}, Refused},
		"signed up, now sign in": {SignUp, Snapshot{}, signIn, Taken},
	} {
		assert.Equal(t, c.want, Judge(c.kind, c.s, c.r), name)
	}
}

func TestDemandsWithTheDirectory(t *testing.T) {
	for page, want := range map[generator.Rules]generator.Rules{
		"":                                "maxlength: 12; required: digit",
		"minlength: 9":                    "maxlength: 12; required: digit; minlength: 9",
		"minlength: 20":                   "minlength: 20",
		"minlength: 9; required: special": "minlength: 9; required: special",
	} {
		assert.Equal(t, want, Demands{Rules: page}.With("maxlength: 12; required: digit").Rules)
	}
}

func TestDemands(t *testing.T) {
	all := func(set func(rune) bool) func(string) bool {
		return func(p string) bool {
			for _, r := range p {
				if !set(r) {
					return false
				}
			}
			return true
		}
	}
	plain := all(func(r rune) bool { return unicode.IsLetter(r) || unicode.IsDigit(r) })
	for name, c := range map[string]struct {
		field Field
		least int
		most  int
		ok    func(string) bool
	}{
		"nothing": {Field{}, 20, 20, nil},
		"length":  {Field{MinLength: 24, MaxLength: 30}, 24, 30, nil},
		"attribute": {Field{Rules: "maxlength: 12; required: digit; allowed: " +
			"lower"}, 12, 12, all(func(r rune) bool { return unicode.IsLower(r) || unicode.IsDigit(r) })},
		"in words": {Field{Near: "8 to 16 characters, letters and digits only"}, 16, 16, plain},
		"German":   {Field{Near: "Mindestens 10 Zeichen, höchstens 14 Zeichen, keine Sonderzeichen"}, 14, 14, plain},
		"French":   {Field{Near: "Au moins 24 caractères dont une majuscule et un chiffre"}, 24, 24, nil},
		"these symbols": {Field{Near: "Must have a capital, a number and one of: - _ . " +
			"!"}, 20, 20, all(func(r rune) bool {
			return unicode.IsLetter(r) || unicode.IsDigit(r) || r == '-' || r == '_' || r == '.' || r == '!'
		})},
		"pattern": {Field{Pattern: `(?=.*\d)(?=.*[a-z])(?=.*[A-Z])[A-Za-z0-9]{8,15}`, MaxLength: 15}, 15, 15,
			plain},
		"a short one":    {Field{Near: "Your PIN: maximum 6 characters, letters and numbers only"}, 6, 6, plain},
		"contradictions": {Field{Rules: "minlength: 30; maxlength: 20"}, 20, 20, nil},
		"no demand":      {Field{Near: "You can change it 3 times a day"}, 20, 20, nil},
	} {
		t.Run(name, func(t *testing.T) {
			c.field.Type = "password"
			s := page("Join", "Create account", Field{Type: "email", Label: "E-mail"}, c.field)
			d := DemandsOf(s, Read(s)[0])
			for range 10 {
				p, err := MakePassword(rand.Reader, generator.Default(), d)
				require.NoError(t, err)
				assert.GreaterOrEqual(t, len(p.Reveal()), c.least, d.Rules)
				assert.LessOrEqual(t, len(p.Reveal()), c.most, d.Rules)
				assert.True(t, d.Meets(p.Reveal()), p.Reveal())
				if c.ok != nil {
					assert.True(t, c.ok(p.Reveal()), "%s: %s", d.Rules, p.Reveal())
				}
			}
		})
	}
}
