package generator

import (
	"fmt"
	"strconv"
	"strings"
)

// Rules is what a site demands of a password, in the syntax of the passwordrules
// attribute that is proposed for HTML (whatwg/html issue 3518; from memory):
//
//	minlength: 8; maxlength: 20; required: lower; required: digit; allowed: [-_.]; max-consecutive: 2
//
// Each "required" is a set of which one character at least must occur; "allowed"
// is what may occur besides. Sets are lower, upper, digit, special,
// ascii-printable, or characters in brackets.
type Rules string

// RuleFault is what is wrong with a rule.
type RuleFault string

// The faults.
const (
	RuleUnknown RuleFault = "unknown" // there is no such rule
	RuleBad     RuleFault = "bad"     // its value can't be understood
	RuleBounds  RuleFault = "bounds"  // the least length is above the greatest
)

// RuleError says which of a site's rules can't be followed.
type RuleError struct {
	Fault       RuleFault
	Rule        string // as it is written; of RuleUnknown and RuleBad
	Least, Most int    // characters; of RuleBounds
}

func (e *RuleError) Error() string { return fmt.Sprintf("failed to read rule %q: %s", e.Rule, e.Fault) }

// Options returns what to make for a site with these rules: base, with its length
// and kinds of characters kept within them. An error says which rule isn't
// understood; an empty one is base.
func (r Rules) Options(base Options) (Options, error) {
	o := base
	if strings.TrimSpace(string(r)) == "" {
		return o, nil
	}
	o.Lower, o.Upper, o.Digits, o.Symbols, o.SymbolSet = false, false, false, false, ""
	o.MinDigits, o.MinSymbols = 0, 0
	sets, named := false, false
	least, most := 8, MaxLength
	for _, rule := range splitRules(string(r)) {
		name, value, ok := strings.Cut(rule, ":")
		name, value = strings.ToLower(strings.TrimSpace(name)), strings.TrimSpace(value)
		if !ok && name == "" {
			continue
		}
		n, err := strconv.Atoi(value)
		understood := err == nil && n > 0
		switch name {
		case "minlength":
			least, named = max(least, n), true
		case "maxlength":
			most = min(most, n)
		case "max-consecutive":
			o.MaxRun = n
		case "required", "allowed":
			sets, understood = true, o.allow(value, name == "required")
		default:
			return base, &RuleError{Fault: RuleUnknown, Rule: rule}
		}
		if !understood {
			return base, &RuleError{Fault: RuleBad, Rule: rule}
		}
	}
	if !sets {
		o.Lower, o.Upper, o.Digits, o.Symbols, o.MinDigits, o.MinSymbols = base.Lower, base.Upper, base.Digits,
			base.Symbols, base.MinDigits, base.MinSymbols
	}
	if named && least > most {
		return base, &RuleError{Fault: RuleBounds, Least: least, Most: most}
	}
	o.Length = min(max(o.Length, least), most)
	return o, o.Check()
}

// splitRules splits rules at semicolons outside of brackets.
func splitRules(s string) []string {
	inside := false
	return strings.FieldsFunc(s, func(r rune) bool {
		switch r {
		case '[':
			inside = true
		case ']':
			inside = false
		}
		return r == ';' && !inside
	})
}

// allow adds the sets of one rule, and reports whether it understood them.
func (o *Options) allow(value string, required bool) bool {
	for value != "" {
		if strings.HasPrefix(value, "[") {
			end := strings.LastIndexByte(value, ']')
			if end < 1 {
				return false
			}
			o.Symbols = true
			for _, c := range value[1:end] {
				if strings.ContainsRune(symbols+`"'<>\|`+"`", c) && !strings.ContainsRune(o.SymbolSet, c) {
					o.SymbolSet += string(c)
				}
			}
			if required {
				o.MinSymbols = 1
			}
			value = strings.TrimLeft(value[end+1:], ", ")
			continue
		}
		word, rest, _ := strings.Cut(value, ",")
		value = strings.TrimSpace(rest)
		switch strings.ToLower(strings.TrimSpace(word)) {
		case "lower":
			o.Lower = true
		case "upper":
			o.Upper = true
		case "digit":
			if o.Digits = true; required {
				o.MinDigits = 1
			}
		case "special":
			if o.Symbols = true; required {
				o.MinSymbols = 1
			}
		case "ascii-printable", "unicode":
			o.Lower, o.Upper, o.Digits, o.Symbols = true, true, true, true
		default:
			return false
		}
	}
	if o.Symbols && o.SymbolSet == "" && strings.Contains(value, "[") {
		o.Symbols = false // nothing in the brackets can be typed everywhere
	}
	return true
}
