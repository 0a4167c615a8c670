package wording

import (
	"errors"
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"unicode"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"redlocket/core/autofill"
	"redlocket/core/directory"
	"redlocket/core/find"
	"redlocket/core/generator"
	"redlocket/core/keys"
	"redlocket/core/site"
	"redlocket/core/strength"
	"redlocket/core/tidy"
	"redlocket/core/transfer"
	"redlocket/core/vault"
)

// inside are errors that no person meets: programs act on them, or they are wrapped by one
// that people do meet.
var inside = []string{
	"find.ErrIndexCache", // the index is made anew
	"keys.ErrOpen",       // unlocking and joining say what it means there
	"keys.ErrRoom",       // the records say what to do
	"keys.ErrParams",     // syncing says that the cloud's answer is wrong
	"wire.Error",         // what the cloud answers, which its client puts into errors of its own
}

// Every exported error of core has words, or is listed as one that nobody meets.
func TestEveryErrorOfCoreHasWords(t *testing.T) {
	source, err := os.ReadFile("errors.go")
	require.NoError(t, err)
	found := 0
	for _, name := range exported(t, "../core", func(pkg, name string, value bool) bool {
		return value && strings.HasPrefix(name, "Err") || !value && strings.HasSuffix(name, "Error")
	}) {
		found++
		assert.True(t, strings.Contains(string(source), name) || slices.Contains(inside, name), "%s has no words", name)
	}
	assert.Greater(t, found, 40, "they were found at all")
	for _, x := range told {
		first := []rune(x.words)[0]
		assert.False(t, unicode.IsUpper(first) && !strings.HasPrefix(x.words, "JSON"), x.words)
		assert.False(t, strings.HasSuffix(x.words, "."), x.words)
		if !strings.Contains(x.words, "%s") {
			assert.Equal(t, x.words, Error(errors.Join(errors.New("x"), x.err)), "wrapped, too")
		}
	}
	assert.Equal(t, "disk full", Error(errors.New("disk full")))
}

// Every value of a type of facts has words of its own.
func TestEveryFactHasWords(t *testing.T) {
	for typ, words := range map[string]func(value string) string{
		"strength.Pattern": func(v string) string {
			return Weakness(strength.Weakness{Pattern: strength.Pattern(v), Token: "k••p"})
		},
		"transfer.Fault":      func(v string) string { return Row(transfer.RowError{Fault: transfer.Fault(v)}) },
		"autofill.MissReason": func(v string) string { return Miss(autofill.Miss{Why: autofill.MissReason(v)}) },
		"transfer.Meaning":    func(v string) string { return Meaning(transfer.Meaning(v)) },
		"keys.CodeFault":      func(v string) string { return Error(&keys.CodeError{Fault: keys.CodeFault(v)}) },
		"generator.RuleFault": func(v string) string { return Error(&generator.RuleError{Fault: generator.RuleFault(v)}) },
		"tidy.Why":            func(v string) string { return Reason(tidy.Reason{Why: tidy.Why(v), A: "a", B: "b"}) },
		"site.Trick": func(v string) string {
			parts := []site.Part{{Text: ".test"}}
			return Likeness(site.Likeness{Trick: site.Trick(v), Here: parts, There: parts})
		},
	} {
		seen := map[string]string{}
		for _, v := range valuesOf(t, typ) {
			w := words(v)
			assert.NotEmpty(t, w, "%s %q", typ, v)
			assert.Empty(t, seen[w], "%s %q is worded like %q", typ, v, seen[w])
			seen[w] = v
		}
		assert.Greater(t, len(seen), 2, typ)
	}
	for _, r := range valuesOf(t, "autofill.Role") {
		login := strings.HasSuffix(r, "-password") || r == "one-time-code" || r == "cc-additional-name"
		_, named := roles[autofill.Role(r)]
		assert.Equal(t, !login, named, r)
	}
	assert.Equal(t, "name, street, telephone", Fills([]autofill.Role{
		autofill.Name, autofill.Line1, autofill.Line2, autofill.TelArea, autofill.TelLocal,
	}))
	for _, s := range find.States() {
		assert.NotEmpty(t, State(s), s)
	}
	for _, k := range vault.Kinds() {
		assert.NotEmpty(t, Kind(k.Type).One, k.Type)
		assert.NotEmpty(t, Kind(k.Type).Many, k.Type)
		for _, s := range k.Specs {
			if s.Form == vault.FormYesNo {
				assert.NotEmpty(t, Hint(k.Type, s.Field), "a box is ticked by what it says")
			}
			assert.NotEqual(t, string(s.Field), Label(k.Type, s.Field))
		}
	}
	for typ, fields := range hints {
		for f := range fields {
			k, _ := vault.KindOf(typ)
			_, ok := k.Spec(f)
			assert.True(t, ok, "%s has a hint and no field %s", typ, f)
		}
	}
	for _, f := range valuesOf(t, "vault.Form") {
		assert.Equal(t, hasShape(vault.Form(f)), shapes[vault.Form(f)] != "", f)
	}
}

// hasShape reports whether some text isn't a value of the form.
func hasShape(f vault.Form) bool {
	for _, odd := range []string{"☂ x", "1"} {
		if _, err := vault.Check(vault.Spec{Form: f}, odd); err != nil {
			return true
		}
	}
	return false
}

func TestErrorsWithDetails(t *testing.T) {
	code := func(e keys.CodeError) error { return &e }
	for want, err := range map[string]error{
		"this is 4 characters long; there is room for 3":                        &vault.FormError{Fault: vault.FaultLong, Has: 4, Most: 3},
		"a telephone number has 3 to 20 digits":                                 &vault.FormError{Form: vault.FormPhone, Fault: vault.FaultCount},
		"at least 8 characters are needed, and more make it stronger: 4 so far": &strength.LengthError{Has: 4},
		"at most 256 characters are taken":                                      &strength.LengthError{Has: 257},
		"it is among the first that a thief tries: it repeats itself": &strength.CommonError{
			Weakness: strength.Weakness{Pattern: strength.Repeat},
		},
		"this is the recovery code; the carried half is the other one on the sheet": code(
			keys.CodeError{Fault: keys.CodeOther, Use: keys.Carried}),
		"this is the carried half; the recovery code is the other one on the sheet": code(
			keys.CodeError{Fault: keys.CodeOther, Use: keys.Recovery}),
		"group 3 has a character that codes don’t use: 'U'": code(
			keys.CodeError{Fault: keys.CodeCharacter, Group: 3, Character: 'U'}),
		"the code is too short: 7 of 40 characters are there": code(keys.CodeError{Fault: keys.CodeShort, Has: 7}),
		"item 2 of the file: its kind is missing":             &transfer.ItemError{Number: 2, Err: transfer.ErrNoKind},
		"site 2 (“B”): “a.example”: it belongs to “A” already": &directory.SiteError{
			Number: 2, Name: "B", Text: "a.example", Other: "A", Err: directory.ErrTaken,
		},
		"site 1 (“A”): “www.a.example”: it is a host of a.example; give the domain itself": &directory.SiteError{
			Number: 1, Name: "A", Err: &directory.SiteError{Text: "www.a.example", Other: "a.example", Err: directory.ErrHost},
		},
		"site 1 (“A”): the rule “minlength: x” can’t be understood": &directory.SiteError{
			Number: 1, Name: "A", Err: &generator.RuleError{Fault: generator.RuleBad, Rule: "minlength: x"},
		},
	} {
		assert.Equal(t, want, Error(err))
	}
}

func TestChangesAndGains(t *testing.T) {
	for want, c := range map[string]vault.Change{
		"Archived":                  {Field: vault.FieldArchived},
		"Restored from the archive": {Field: vault.FieldArchived, Removed: true},
		"Program":                   {Field: vault.FieldApp},
		"Gate":                      {Field: vault.CustomFieldKey("x"), Name: "Gate"},
		"File “boat.pdf”":           {Field: "file:1", Name: "boat.pdf"},
	} {
		assert.Equal(t, want, Change(vault.TypeLogin, c), "of a kind that it was before, too")
	}
	assert.Equal(t, "Works at", Gain(transfer.Gain{Type: vault.TypeLogin, Field: vault.FieldAddresses}))
	assert.Equal(t, "Earlier values", Gain(transfer.Gain{Type: vault.TypeLogin}))
	assert.Contains(t, Query(find.Parse("=happy")), "=happy")
	assert.Empty(t, Query(find.Parse("gull tag=x")))
}

func TestLasts(t *testing.T) {
	for want, seconds := range map[string]float64{
		"no time at all for a thief": .5, "seconds for a thief": 59, "about 2 minutes for a thief": 120,
		"about 1 hour for a patient thief": 3600, "about 3 days for a patient thief": 3 * 86400,
		"about 4 months for a patient thief":                                      122 * 86400,
		"about 30 years for a thief with a data centre":                           30 * strength.Year,
		"centuries, even for a thief with a data centre":                          1e4 * strength.Year,
		"longer than there have been people, even for a thief with a data centre": 1e6 * strength.Year,
	} {
		assert.Equal(t, want, Lasts(strength.Verdict{Guesses: 1, Seconds: seconds}))
	}
	assert.Equal(t, "no password yet", Lasts(strength.Verdict{}))
}

// declarations calls visit for each declaration of a package below dir.
func declarations(t *testing.T, dir string, visit func(pkg string, d *ast.GenDecl)) {
	t.Helper()
	require.NoError(t, filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		f, err := parser.ParseFile(token.NewFileSet(), path, nil, 0)
		if err != nil {
			return err
		}
		for _, decl := range f.Decls {
			if g, ok := decl.(*ast.GenDecl); ok {
				visit(f.Name.Name, g)
			}
		}
		return nil
	}))
}

// exported are the exported variables and types that want takes, as package.Name.
func exported(t *testing.T, dir string, want func(pkg, name string, value bool) bool) (out []string) {
	t.Helper()
	declarations(t, dir, func(pkg string, g *ast.GenDecl) {
		for _, spec := range g.Specs {
			switch s := spec.(type) {
			case *ast.ValueSpec:
				for _, n := range s.Names {
					if want(pkg, n.Name, true) {
						out = append(out, pkg+"."+n.Name)
					}
				}
			case *ast.TypeSpec:
				if s.Name.IsExported() && want(pkg, s.Name.Name, false) {
					out = append(out, pkg+"."+s.Name.Name)
				}
			}
		}
	})
	return out
}

// valuesOf are the constants of a type of core, package.Name.
func valuesOf(t *testing.T, typ string) (out []string) {
	t.Helper()
	pkg, name, _ := strings.Cut(typ, ".")
	declarations(t, "../core/"+pkg, func(_ string, g *ast.GenDecl) {
		for _, spec := range g.Specs {
			s, ok := spec.(*ast.ValueSpec)
			if !ok || g.Tok != token.CONST {
				continue
			}
			if id, ok := s.Type.(*ast.Ident); ok && id.Name == name {
				for _, v := range s.Values {
					if lit, ok := v.(*ast.BasicLit); ok {
						out = append(out, strings.Trim(lit.Value, `"`))
					}
				}
			}
		}
	})
	require.NotEmpty(t, out, typ)
	return out
}

// Whatever error it is, it is written as the pages are.
func TestErrorsAreTypeset(t *testing.T) {
	err := errors.New(`the cloud's answer isn't it: 'x', "y'" and /home/o'hara`)
	assert.Equal(t, `the cloud’s answer isn’t it: 'x', "y'" and /home/o'hara`, Error(err))
}
