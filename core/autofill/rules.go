package autofill

import (
	"io"
	"regexp"
	"strconv"
	"strings"

	"redlocket/core/generator"
	"redlocket/core/secret"
)

// Demands are what a page demands of a new password.
type Demands struct {
	Rules    generator.Rules // from the passwordrules attribute, lengths and plain words
	Patterns []string        // pattern attributes that the password must match
}

// DemandsOf reads what a form says of its new password: the passwordrules attribute,
// minlength, maxlength and pattern, and rules in plain words beside the field.
func DemandsOf(s Snapshot, r Reading) Demands {
	var d Demands
	var rules []string
	for _, f := range s.Bound().Fields {
		if f.Form != r.Form || r.Roles[f.ID] != NewPassword {
			continue
		}
		if f.Rules != "" {
			rules = append(rules, f.Rules)
		}
		if f.MinLength > 0 {
			rules = append(rules, "minlength: "+strconv.Itoa(f.MinLength))
		}
		if f.MaxLength > 0 && f.MaxLength < generator.MaxLength {
			rules = append(rules, "maxlength: "+strconv.Itoa(f.MaxLength))
		}
		if f.Pattern != "" {
			d.Patterns = append(d.Patterns, f.Pattern)
		}
		if f.Rules == "" {
			words, pattern := plainRules(f.Near + "\n" + f.Label)
			if words != "" {
				rules = append(rules, words)
			}
			if pattern != "" {
				d.Patterns = append(d.Patterns, pattern)
			}
		}
	}
	d.Rules = generator.Rules(strings.Join(rules, "; "))
	if _, err := d.Rules.Options(generator.Default()); err != nil {
		d.Rules = "" // not understood, or contradicting itself: the usual one, and the page will say
	}
	return d
}

// With adds what is known of a site's rules to what its page says. Where the page itself says
// which characters it takes, or the two contradict each other, the page's word counts.
func (d Demands) With(known generator.Rules) Demands {
	if strings.Contains(string(d.Rules), "required") || strings.Contains(string(d.Rules), "allowed") || known == "" {
		return d
	}
	both := known
	if d.Rules != "" {
		both += "; " + d.Rules
	}
	if _, err := both.Options(generator.Default()); err == nil {
		d.Rules = both
	}
	return d
}

// Meets reports whether a password matches every pattern.
func (d Demands) Meets(password string) bool {
	for _, p := range d.Patterns {
		if !lookaheads(p, password) {
			return false
		}
	}
	return true
}

var lookahead = regexp.MustCompile(`^\(\?=((?:[^()]|\((?:[^()]|\([^()]*\))*\))*)\)`)

// lookaheads matches a pattern that begins with lookaheads, which Go's expressions don't
// have, by matching each of them alone: "(?=.*\d)(?=.*[a-z]).{8,}" is how pages say it.
func lookaheads(pattern, text string) bool {
	p := strings.TrimSuffix(strings.TrimPrefix(pattern, "^"), "$")
	for {
		m := lookahead.FindStringSubmatch(p)
		if m == nil {
			break
		}
		if re, err := regexp.Compile("^(?:" + m[1] + ")"); err == nil && !re.MatchString(text) {
			return false
		}
		p = p[len(m[0]):]
	}
	return p == "" || matches(p, text)
}

// MakePassword makes a password that meets the demands: by the rules, and where there are
// patterns by trying, with and without symbols. One that no try meets is made by the rules
// alone; the page will say what it lacks.
func MakePassword(rand io.Reader, base generator.Options, d Demands) (secret.Text, error) {
	o, err := d.Rules.Options(base)
	if err != nil {
		return secret.Text{}, err
	}
	first, err := generator.Password(rand, o)
	if err != nil || d.Meets(first.Reveal()) {
		return first, err
	}
	for _, change := range []func(*generator.Options){
		func(*generator.Options) {},
		func(o *generator.Options) { o.Symbols, o.SymbolSet, o.MinSymbols = true, "-_.!@#$%", 1 },
		func(o *generator.Options) { o.Symbols = false },
		func(o *generator.Options) { o.Symbols, o.Length = false, min(o.Length, 12) },
		func(o *generator.Options) { o.Symbols, o.Length = false, min(o.Length, 8) },
		func(o *generator.Options) { o.Lower, o.Upper, o.Symbols, o.Digits = false, false, false, true },
	} {
		try := o
		change(&try)
		for range 20 {
			p, err := generator.Password(rand, try)
			if err != nil {
				break
			}
			if d.Meets(p.Reveal()) {
				return p, nil
			}
		}
	}
	return first, nil
}
