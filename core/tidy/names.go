package tidy

import (
	"strings"
	"unicode"
)

// alike says how two user names are related.
type alike int

const (
	different alike = iota
	otherMail       // two e-mail addresses of two providers, with a password that nobody has twice
	oldMail
	typing
	masked
	mailPart
	telephone
	sameName
	noName  // one has none
	noNames // neither has one
)

// fold is a user name for comparison: without capitals and blanks.
func fold(s string) string {
	return strings.ToLower(strings.Join(strings.Fields(s), ""))
}

// compare tells how two folded user names are related by themselves.
func compare(a, b string) alike {
	switch {
	case a == "" && b == "":
		return noNames
	case a == "" || b == "":
		return noName
	case a == b:
		return sameName
	case isMask(a) != isMask(b):
		if isMask(b) {
			a, b = b, a
		}
		if fitsMask(a, b) || !strings.Contains(a, "@") && fitsMask(a, mailOf(b)) {
			return masked
		}
		return different
	case isMask(a): // two masks of one name
		if fitsMask(a, strings.Map(unstar, b)) || fitsMask(b, strings.Map(unstar, a)) {
			return masked
		}
		return different
	case crossedOut(a, b) || crossedOut(b, a):
		return masked
	case samePhone(a, b):
		return telephone
	case isFirstPart(a, b) || isFirstPart(b, a):
		return mailPart
	case mistyped(a, b):
		return typing
	case mailOf(a) != "" && mailOf(b) != "" && kin(a, b):
		return oldMail
	}
	return different
}

// isMask reports whether a site starred a user name out.
func isMask(s string) bool {
	n := 0
	for _, r := range s {
		if strings.ContainsRune("*•●∗…#", r) {
			n++
		}
	}
	return n > 1 || strings.ContainsRune(s, '…') || n == 1 && len(s) > 2
}

func unstar(r rune) rune {
	if strings.ContainsRune("*•●∗…#", r) {
		return 'q'
	}
	return r
}

// fitsMask reports whether a name could be what a site starred out: each run of stars stands for any letters, how many
// says nothing (common practice).
func fitsMask(mask, name string) bool {
	parts := strings.FieldsFunc(mask, func(r rune) bool { return strings.ContainsRune("*•●∗…#", r) })
	if len(parts) == 0 {
		return false
	}
	runes := []rune(mask)
	if first := runes[0]; !strings.ContainsRune("*•●∗…#", first) {
		if !strings.HasPrefix(name, parts[0]) {
			return false
		}
		name, parts = name[len(parts[0]):], parts[1:]
	}
	if last := runes[len(runes)-1]; len(parts) > 0 && !strings.ContainsRune("*•●∗…#", last) {
		end := parts[len(parts)-1]
		if !strings.HasSuffix(name, end) {
			return false
		}
		name, parts = name[:len(name)-len(end)], parts[:len(parts)-1]
	}
	for _, p := range parts {
		i := strings.Index(name, p)
		if i < 0 {
			return false
		}
		name = name[i+len(p):]
	}
	return true
}

// crossedOut reports whether a site put letters x in place of others of a name: four or more, with others around them.
func crossedOut(mask, name string) bool {
	const least = "xxxx"
	i := strings.Index(mask, least)
	if i < 1 || strings.Contains(name, least) {
		return false
	}
	rest := strings.TrimLeft(mask[i:], "x")
	return rest != "" && fitsMask(mask[:i]+"*"+rest, name)
}

// mailOf returns an e-mail address's first part; empty for what is none.
func mailOf(s string) string {
	first, host, ok := strings.Cut(s, "@")
	if !ok || !strings.Contains(host, ".") || first == "" {
		return ""
	}
	return first
}

// oneBox reports whether two mistyped e-mail addresses have one first part: nobody has two such, at providers whose
// names differ by a letter.
func oneBox(a, b string) bool {
	first := mailOf(a)
	return first != "" && first == mailOf(b)
}

// oneProvider reports whether two e-mail addresses are of one provider: people of one household may be.
func oneProvider(a, b string) bool {
	_, x, _ := strings.Cut(a, "@")
	_, y, _ := strings.Cut(b, "@")
	return x == y
}

// isFirstPart reports whether a name is an e-mail address's first part, also without what follows a plus.
func isFirstPart(name, mail string) bool {
	first := mailOf(mail)
	plus, _, _ := strings.Cut(first, "+")
	return first != "" && mailOf(name) == "" && len(name) > 2 && (name == first || name == plus)
}

// samePhone reports whether two names are one telephone number: the last nine digits are, and nothing else is in them.
func samePhone(a, b string) bool {
	x, y := phone(a), phone(b)
	return len(x) >= 9 && len(y) >= 9 && x[len(x)-9:] == y[len(y)-9:]
}

// phone returns a telephone number's digits without country code or trunk prefix; empty for what isn't a number.
func phone(s string) string {
	var b strings.Builder
	for _, r := range s {
		switch {
		case r >= '0' && r <= '9':
			b.WriteRune(r)
		case !strings.ContainsRune("+-./() ", r):
			return ""
		}
	}
	return strings.TrimLeft(b.String(), "0")
}

// mistyped reports whether two names differ by one letter only: dropped, added, replaced, or two swapped. Names that
// differ by a digit are two accounts (common practice: maren1 and maren2).
func mistyped(a, b string) bool {
	x, y := []rune(a), []rune(b)
	if len(x) > len(y) {
		x, y = y, x
	}
	if len(x) < 5 || len(y)-len(x) > 1 {
		return false
	}
	i := 0
	for i < len(x) && x[i] == y[i] {
		i++
	}
	if len(x) < len(y) {
		return string(x[i:]) == string(y[i+1:]) && !unicode.IsDigit(y[i])
	}
	if i+1 < len(x) && x[i] == y[i+1] && x[i+1] == y[i] && string(x[i+2:]) == string(y[i+2:]) {
		return !unicode.IsDigit(x[i]) || !unicode.IsDigit(x[i+1])
	}
	return i < len(x) && string(x[i+1:]) == string(y[i+1:]) && !unicode.IsDigit(x[i]) && !unicode.IsDigit(y[i])
}

// kin reports whether two e-mail addresses may be one person's: their first parts are the same but for dots, digits at
// the end and the like, or one is a part of the other.
func kin(a, b string) bool {
	words := func(s string) []string {
		first, _, _ := strings.Cut(mailOf(s), "+")
		return strings.FieldsFunc(strings.TrimRight(first, "0123456789"), func(r rune) bool {
			return r == '.' || r == '-' || r == '_'
		})
	}
	x, y := words(a), words(b)
	if len(x) == 0 || len(y) == 0 {
		return false
	}
	if strings.Join(x, "") == strings.Join(y, "") {
		return true
	}
	// m.tolliver, maren, mtolliver and maren.tolliver
	return initials(x, y) || initials(y, x) ||
		len(x) == 1 && len(y) == 1 && (shortened(x[0], y[0]) || shortened(y[0], x[0]))
}

// shortened reports whether one is a first name, alone or with the last name's initial, and the other that too or the
// first one's initial with the last name: maren, marent, mtolliver.
func shortened(a, b string) bool {
	if len(a) < 4 || len(b) < 4 {
		return false
	}
	first, last := a[:len(a)-1], a[len(a)-1]
	return b == first || a[0] == b[0] && b[1] == last && len(b) > len(a)
}

// initials reports whether one address's words are the other's, or begin as they do.
func initials(short, long []string) bool {
	if len(short) == 1 && len(long) == 2 {
		s := short[0]
		return s == long[0] && len(s) > 2 || s == long[0][:1]+long[1]
	}
	if len(short) != len(long) || len(short) < 2 {
		return false
	}
	for i := range short {
		if !strings.HasPrefix(long[i], short[i]) || i > 0 && short[i] != long[i] {
			return false
		}
	}
	return true
}
