package autofill

import (
	"fmt"
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
			if words := plainRules(f.Near + ". " + f.Label); words != "" {
				rules = append(rules, words)
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

// The plain words of rules, in the languages in which sites most often write them
// (common practice; from memory). The number is a group.
var (
	leastWords = regexp.MustCompile(
		`(?i)(?:at least|minimum(?: of)?|min\.?|no fewer than|no less than|mindestens|au moins|minimum de|
		al menos|mínimo(?: de)?|almeno|minimo|pelo menos|no mínimo|minimaal|ten minste|mindst|minst|co najmniej|
		minimum|не менее|минимум|vähintään)\s+(\d{1,3})\s*(?:or more\s+)?(?:characters|chars|letters|symbols|
		signs|zeichen|caractères|caracteres|caratteri|tekens|tegn|tecken|znaków|символов|merkkiä)|
		(\d{1,3})\s*(?:\+|or more|oder mehr|ou plus|o más)\s*(?:characters|zeichen|caractères|caracteres)|
		(\d{1,3})\s*文字以上|至少\s*(\d{1,3})|최소\s*(\d{1,3})`,
	)
	mostWords = regexp.MustCompile(
		`(?i)(?:at most|up to|maximum(?: of)?|max\.?|no more than|no longer than|höchstens|maximal|au plus|
		maximum de|máximo(?: de)?|como máximo|massimo|al massimo|no máximo|maximaal|hoogstens|højst|högst|
		maksimum|maksymalnie|не более|enintään)\s+(\d{1,3})\s*(?:characters|chars|letters|zeichen|caractères|
		caracteres|caratteri|tekens|tegn|tecken|znaków|символов|merkkiä)|(\d{1,3})\s*文字以内`,
	)
	spanWords = regexp.MustCompile(
		`(?i)(\d{1,3})\s*(?:to|-|–|—|and|bis|à|a|til|till|tot|do|~|〜|から)\s*(\d{1,3})\s*(?:characters|chars|
		letters|zeichen|caractères|caracteres|caratteri|tekens|tegn|tecken|znaków|символов|文字|个字符|자)`,
	)
	noSymbols = regexp.MustCompile(
		`(?i)(?:letters and (?:numbers|digits) only|only letters and (?:numbers|digits)|
		no (?:special characters|symbols|punctuation)|without (?:special characters|symbols)|alphanumeric only|
		nur buchstaben und (?:zahlen|ziffern)|keine sonderzeichen|lettres et chiffres uniquement|
		sans caractères spéciaux|sólo letras y números|solo letras y números|solo lettere e numeri|
		apenas letras e números|alleen letters en cijfers)`,
	)
	digitWords = regexp.MustCompile(
		`(?i)(?:number|digit|numeral|ziffer|zahl|chiffre|número|dígito|numero|cifra|cijfer|tal\b|siffra|cyfr|
		цифр|数字|숫자)`,
	)
	upperWords = regexp.MustCompile(
		`(?i)(?:upper\s?case|capital|großbuchstabe|majuscule|mayúscula|maiuscol|maiúscula|hoofdletter|
		stort? bogstav|versal|stor bokstav|wielk\w* liter|прописн|заглавн|大文字|大写|대문자)`,
	)
	lowerWords = regexp.MustCompile(
		`(?i)(?:lower\s?case|small letter|kleinbuchstabe|minuscule|minúscula|minuscol|kleine letter|
		lille bogstav|liten bokstav|mał\w* liter|строчн|小文字|小写|소문자)`,
	)
	signWords = regexp.MustCompile(
		`(?i)(?:special character|symbol|punctuation|sonderzeichen|caractère spécial|carácter especial|
		carattere speciale|caractere especial|speciaal teken|specialtegn|specialtecken|znak specjaln|спецсимвол|
		специальн|記号|特殊字符|特殊文字)`,
	)
	onlyThese = regexp.MustCompile(
		`(?i)(?:only (?:these|the following)(?: special characters| symbols| signs)?|
		allowed (?:special characters|symbols|signs|characters)(?: are)?|symbols (?:allowed|may be)|
		of these (?:symbols|signs)|one of)\s*:?\s*((?:[!-/:-@\[-` + "`" + `{-~]\s*(?:,|or|and)?\s*)+)`,
	)
	noRepeats = regexp.MustCompile(
		`(?i)(?:no more than (two|three|2|3) (?:identical|repeated|same|consecutive)|
		same character (?:more than )?(two|three|2|3))`,
	)
)

// plainRules turns rules in plain words into the syntax of [generator.Rules]; empty where
// the words say nothing of the kind.
func plainRules(text string) string {
	var out []string
	number := func(m []string) int {
		for _, g := range m[1:] {
			if n, err := strconv.Atoi(g); err == nil {
				return n
			}
		}
		return 0
	}
	if m := spanWords.FindStringSubmatch(text); m != nil {
		a, _ := strconv.Atoi(m[1])
		b, _ := strconv.Atoi(m[2])
		if a >= 4 && b > a && b <= 256 {
			out = append(out, fmt.Sprintf("minlength: %d", a), fmt.Sprintf("maxlength: %d", b))
		}
	} else {
		if m := leastWords.FindStringSubmatch(text); m != nil {
			if n := number(m); n >= 4 && n <= 128 {
				out = append(out, fmt.Sprintf("minlength: %d", n))
			}
		}
		if m := mostWords.FindStringSubmatch(text); m != nil {
			if n := number(m); n >= 6 && n <= 256 {
				out = append(out, fmt.Sprintf("maxlength: %d", n))
			}
		}
	}
	set := func(name string) { out = append(out, "required: "+name) }
	lower, upper, digit, sign := lowerWords.MatchString(
		text,
	), upperWords.MatchString(
		text,
	), digitWords.MatchString(
		text,
	), signWords.MatchString(
		text,
	)
	only := onlyThese.FindStringSubmatch(text)
	switch {
	case noSymbols.MatchString(text):
		set("lower")
		set("upper")
		set("digit")
	case lower || upper || digit || sign || only != nil:
		set("lower")
		if upper {
			set("upper")
		} else {
			out = append(out, "allowed: upper")
		}
		if digit {
			set("digit")
		} else {
			out = append(out, "allowed: digit")
		}
		switch {
		case only != nil:
			signs := strings.Map(func(r rune) rune {
				if r == ' ' || r == ',' && strings.Count(only[1], ",") > 1 || r >= 'a' && r <= 'z' {
					return -1
				}
				return r
			}, only[1])
			out = append(out, "required: ["+strings.NewReplacer("]", "", "[", "").Replace(signs)+"]")
		case sign:
			set("special")
		}
	}
	if m := noRepeats.FindStringSubmatch(text); m != nil {
		n := map[string]int{"two": 2, "2": 2, "three": 3, "3": 3}[strings.ToLower(m[1]+m[2])]
		out = append(out, fmt.Sprintf("max-consecutive: %d", n))
	}
	return strings.Join(out, "; ")
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
