package autofill

import (
	"fmt"
	"regexp"
	"strconv"
	"strings"
)

// The plain words of rules, in the languages in which sites most often write them (common practice; from memory).
// A number or a list of signs is a group.
var (
	leastWords = phrases(
		`(?:at least|minimum(?: of)?|min\.?|no fewer than|no less than|or longer than|mindestens|wenigstens|
		au moins|minimum de|al menos|mínimo(?: de)?|almeno|minimo|pelo menos|no mínimo|minimaal|ten minste|
		mindst|minst|co najmniej|не менее|минимум|щонайменше|vähintään|alespoň|nejméně|aspoň|legalább|cel puțin|
		najmanje|vsaj|en az|ít nhất|tối thiểu|minimal|τουλάχιστον)\s+(\d{1,3})\s*(?:or more\s+)?UNIT`,
		`(\d{1,3})\s*(?:\+|or more|oder mehr|ou plus|o más|o più|of meer|eller flere|eller fler|ή περισσότερ)\s*UNIT`,
		`(\d{1,3})\s*UNIT\s*(?:or more|or longer|minimum|mínimo|minimo|min\b|oder mehr|oder länger|au minimum|o más)`,
		`(\d{1,3})\s*文字以上`, `(?:至少|最少|不少于)\s*(\d{1,3})`, `최소\s*(\d{1,3})`, `(\d{1,3})\s*자 이상`,
	)
	mostWords = phrases(
		`(?:at most|up to|maximum(?: of)?|max\.?|no more than|no longer than|not exceed|fewer than|höchstens|maximal|
		au plus|maximum de|jusqu.à|máximo(?: de)?|como máximo|hasta|massimo|al massimo|no máximo|até|maximaal|hoogstens|
		højst|højest|högst|maksimum|maksymalnie|не более|максимум|не більше|enintään|nejvýše|maximálně|legfeljebb|
		maxim|najviše|največ|en fazla|tối đa|maksimal|το πολύ)\s+(\d{1,3})\s*(?:UNIT|(?:[).;,]|$))`,
		`(\d{1,3})\s*UNIT\s*(?:or fewer|or less|maximum|máximo|massimo|max\b|oder weniger|au maximum)`,
		`(\d{1,3})\s*文字以内`, `(?:最多|不超过)\s*(\d{1,3})`, `최대\s*(\d{1,3})`, `(\d{1,3})\s*자 이하`,
	)
	spanWords = phrases(
		`(\d{1,3})\s*(?:to|-|–|—|and|bis|und|à|et|a|y|e|til|till|tot|do|až|és|și|i|до|và|~|〜|から|and up to)
		\s*(\d{1,3})\s*(?:UNIT|digits?\b|位|个字符|个字|文字|자)`,
		`(?:length|länge|longueur|longitud|lunghezza|lengte)\s*:?\s*(\d{1,3})\s*[-–—]\s*(\d{1,3})\b`,
		`only,?\s*(\d{1,3})\s*[-–—]\s*(\d{1,3})\b`,
	)
	exactWords = phrases(
		`(?:exactly|exact|genau|exactement|exactamente|esattamente|exatamente|precies|præcis|exakt|dokładnie|ровно|
		přesně|pontosan)\s+(\d{1,3})\s*(?:UNIT|digits?\b)`,
	)
	noSymbols = phrases(
		`letters and (?:numbers|digits) only|
		(?:only|just) (?:contain |use |include |have )?letters and (?:numbers|digits)|
		letters or (?:numbers|digits) only|no (?:special characters|symbols|punctuation)|
		(?:without|not allowed:) (?:special characters|symbols)|alphanumeric (?:characters )?only|only alphanumeric|
		nur buchstaben und (?:zahlen|ziffern)|keine sonderzeichen|ohne sonderzeichen|
		lettres et (?:des )?chiffres uniquement|
		uniquement des lettres et des chiffres|sans caractères spéciaux|s[oó]lo letras y números|
		sin caracteres especiales|solo lettere e numeri|senza caratteri speciali|apenas letras e números|
		sem caracteres especiais|alleen letters en cijfers|geen speciale tekens|kun bogstaver og tal|
		endast bokstäver och siffror|tylko litery i cyfry|только буквы и цифры`,
	)
	digitsAlone = phrases(
		`(?:only|just) (?:contain |use )?(?:digits|numbers)\b|(?:digits|numbers) only|
		numeric (?:password|pin|code|only)|
		\d{1,2}[- ]digit (?:pin|passcode|number|numeric)|\bpin\b[^.]{0,20}\d{1,2} digits|nur (?:ziffern|zahlen)\b|
		\d{1,2}-?stellige (?:pin|zahl)|uniquement des chiffres|chiffres uniquement|s[oó]lo números|solo numeri|
		apenas números|alleen cijfers|kun tal\b|endast siffror|tylko cyfry|только цифры|数字のみ|仅限数字`,
	)
	digitsLong = phrases(`(\d{1,2})[- ]?(?:digits?|stellige)\b`)
	digitWords = phrases(
		`number|digit|numeral|ziffer|zahl|chiffre|número|dígito|numero|cifra|cijfer|tal\b|siffra|cyfr|цифр|数字|숫자|
		číslic|číslo|szám|rakam|numero|ψηφί|αριθμ`,
	)
	upperWords = phrases(
		`upper\s?case|capital|großbuchstabe|groß- und klein|majuscule|mayúscula|maiuscol|maiúscula|hoofdletter|
		stort? bogstav|versal|stor bokstav|wielk\w* liter|прописн|заглавн|великі|大文字|大写|대문자|velk\S* písmen|
		nagybetű|büyük harf|iso\w* kirjai|majuscul|κεφαλαί`,
	)
	lowerWords = phrases(
		`lower\s?case|small letter|kleinbuchstabe|minuscule|minúscula|minuscol|kleine letter|lille bogstav|
		liten bokstav|
		mał\w* liter|строчн|小文字|小写|소문자|mal\S* písmen|kisbetű|küçük harf|pien\w* kirjai|πεζ`,
	)
	signWords = phrases(
		`special character|symbol|punctuation|sonderzeichen|caractère spécial|carácter especial|carattere speciale|
		caractere especial|speciaal teken|specialtegn|specialtecken|znak specjaln|спецсимвол|специальн|記号|特殊字符|
		特殊文字|zvláštní znak|speciální znak|speciális karakter|özel karakter|erikoismerk|ειδικ`,
	)
	onlyThese = phrases(
		`only (?:these|the following)(?: special characters| symbols| signs| characters)?(?: are| may be)?
		(?: allowed| permitted| accepted| used)?\s*:?\s*SIGNS`,
		`allowed (?:special characters|symbols|signs|characters)(?: are)?\s*:?\s*SIGNS`,
		`(?:symbols|special characters) (?:allowed|permitted|may be)\s*:?\s*SIGNS`,
		`of these (?:symbols|signs|special characters)\s*:?\s*SIGNS`, `one of\s*:?\s*SIGNS`,
		`(?:symbols|signs|special characters|punctuation) (?:other than|except(?: for)?|apart from)\s*:?\s*SIGNS`,
		`(?:erlaubte sonderzeichen|caractères spéciaux autorisés|caracteres especiales permitidos|
		caratteri speciali ammessi|toegestane tekens)(?: sind)?\s*:?\s*SIGNS`,
		`(?:special characters?|symbols?|sonderzeichen|caractères? spécia(?:l|ux)|car[aá]cter(?:es)? especial(?:es)?|
		caratter[ei] special[ei])[^().]{0,20}\(\s*(?:e\.?\s?g\.?|such as|like|z\.?\s?b\.?|p\.?\s?ej\.?|par ex\.?|es\.)?
		[:,\s]*SIGNS\s*\)`,
	)
	neverThese = phrases(
		`(?:cannot|can.t|can not|may not|must not|mustn.t|should not|do not|don.t) (?:contain|use|include|have)
		(?: spaces| blanks)?(?: or| nor|,)?(?: any)?(?: of)?(?: the| these)?(?: following)?
		(?: characters| symbols| signs)?\s*:?\s*SIGNS`,
		`(?:not allowed|forbidden|not permitted|invalid characters|nicht erlaubt|non autorisés|no permitidos)
		\s*:?\s*SIGNS`,
	)
	letterFirst = phrases(
		`(?:must |has to |should )?(?:start|begin)s? with a letter|first character (?:must be|is) a letter|
		mit einem buchstaben (?:beginnen|anfangen)|commencer par une lettre|empezar (?:por|con) una letra`,
	)
	noRepeats = phrases(
		`no more than (two|three|2|3) (?:identical|repeated|same|consecutive)|
		same character (?:more than )?(two|three|2|3)`,
	)
)

const (
	units = `(?:characters?\b|chars?\b|letters|symbols|signs|zeichen|caractères|car[aá]cteres|caratteri|tekens|tegn|
		tecken|merkkiä|znaków|znaků|znakov|символ|знак|karakter|caractere|znakova|ký tự|χαρακτήρ)`
	signs = "((?:[!-/:-@\\[-`{-~]\\s*(?:,|or|and|und|et|y|e|ou|oder)?\\s*)+)"
)

var indents = regexp.MustCompile(`\n\t*`)

// phrases compiles ways to say something. What a line begins with is no part of it; UNIT stands for what is counted,
// SIGNS for a list of signs.
func phrases(ways ...string) *regexp.Regexp {
	all := indents.ReplaceAllString(strings.Join(ways, "|"), "")
	all = strings.NewReplacer("UNIT", indents.ReplaceAllString(units, ""), "SIGNS", signs).Replace(all)
	return regexp.MustCompile("(?i)(?:" + all + ")")
}

// plainRules turns rules in plain words into the syntax of [generator.Rules], and into a pattern where that has no word
// for them; empty where the words say nothing of the kind.
func plainRules(text string) (rules, pattern string) {
	out := plainLengths(text)
	set := func(kind, what string) { out = append(out, kind+": "+what) }
	lower, upper := lowerWords.MatchString(text), upperWords.MatchString(text)
	digit, sign := digitWords.MatchString(text), signWords.MatchString(text)
	only, never := signsIn(onlyThese, text), signsIn(neverThese, text)
	if end := strings.TrimSuffix(only, "."); end != "" {
		only = end // it may be the sentence's own, and isn't missed
	}
	if only == "" && never != "" {
		only = strings.Map(func(r rune) rune {
			if strings.ContainsRune(never, r) {
				return -1
			}
			return r
		}, usualSigns)
	}
	switch {
	case noSymbols.MatchString(text): // "letters and digits only" has digits only in it
		set("required", "lower")
		set("required", "upper")
		set("required", "digit")
	case digitsAlone.MatchString(text):
		set("required", "digit")
	case lower || upper || digit || sign || only != "":
		set("required", "lower")
		either := func(said bool, what string) {
			if said {
				set("required", what)
			} else {
				set("allowed", what)
			}
		}
		either(upper, "upper")
		either(digit, "digit")
		if only != "" {
			either(never == "" || sign, "["+only+"]")
		} else if sign {
			set("required", "special")
		}
	}
	if m := noRepeats.FindStringSubmatch(text); m != nil {
		n := map[string]int{"two": 2, "2": 2, "three": 3, "3": 3}[strings.ToLower(m[1]+m[2])]
		out = append(out, fmt.Sprintf("max-consecutive: %d", n))
	}
	if letterFirst.MatchString(text) {
		pattern = `[A-Za-z].*`
	}
	return strings.Join(out, "; "), pattern
}

// usualSigns are those that sites take (common practice).
const usualSigns = `-_.!@#$%^&*+=?~:;,/(){}`

// signsIn are the signs that a text lists in one of the ways; empty for none.
func signsIn(ways *regexp.Regexp, text string) string {
	m := ways.FindStringSubmatch(text)
	if m == nil {
		return ""
	}
	list := strings.TrimSpace(strings.Join(m[1:], ""))
	commas := strings.Count(list, ",") > 1
	var out strings.Builder
	for _, r := range list {
		isSign := r > ' ' && r < 0x7f && (r < '0' || r > '9') && (r < 'A' || r > 'Z') && (r < 'a' || r > 'z')
		if isSign && r != '[' && r != ']' && (r != ',' || !commas) && !strings.ContainsRune(out.String(), r) {
			out.WriteRune(r)
		}
	}
	if s := out.String(); strings.Trim(s, ".,:;()") != "" { // or it is a sentence's own
		return s
	}
	return ""
}

// plainLengths are the rules about how long a password is.
func plainLengths(text string) (out []string) {
	const short, long, longest = 4, 128, 256
	bound := func(name string, n int) { out = append(out, fmt.Sprintf("%slength: %d", name, n)) }
	both := func(least, most int) []string {
		bound("max", most)
		if most >= 8 { // what is shorter may be no shorter
			bound("min", least)
		}
		return out
	}
	if n := figuresIn(exactWords, text); n != nil && n[0] >= short && n[0] <= long {
		return both(n[0], n[0])
	}
	if n := figuresIn(spanWords, text); len(n) == 2 && n[0] >= short && n[1] > n[0] && n[1] <= longest {
		return both(n[0], n[1])
	}
	digits := digitsAlone.MatchString(text) && !noSymbols.MatchString(text)
	if n := figuresIn(digitsLong, text); digits && n != nil && n[0] >= short {
		bound("max", n[0])
		return out
	}
	if n := figuresIn(leastWords, text); n != nil && n[0] >= short && n[0] <= long {
		bound("min", n[0])
	}
	if n := figuresIn(mostWords, text); n != nil && n[0] >= 6 && n[0] <= longest {
		bound("max", n[0])
	}
	return out
}

// figuresIn are the numbers that a text gives in one of the ways; nil for none.
func figuresIn(ways *regexp.Regexp, text string) (out []int) {
	for _, group := range ways.FindStringSubmatch(text) {
		if n, err := strconv.Atoi(group); err == nil {
			out = append(out, n)
		}
	}
	return out
}
