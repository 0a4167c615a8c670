package generator

import (
	"crypto/rand"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestRules(t *testing.T) {
	for rules, want := range map[Rules]func(o Options, p string) bool{
		"minlength: 30":  func(o Options, p string) bool { return len(p) == 30 && o.Symbols },
		"maxlength: 12;": func(_ Options, p string) bool { return len(p) == 12 },
		"required: lower; required: " +
			"digit": func(_ Options, p string) bool { return strings.Trim(p, lower+digits) == "" },
		"maxlength: 16; required: upper; required: digit; required: " +
			"[-_;.]": func(_ Options, p string) bool {
			return strings.Trim(p,
				upper+digits+"-_;.") == "" && len(p) == 16
		},
		"allowed: ascii-printable; max-consecutive: " +
			"1": func(_ Options, p string) bool { return longestRun(p) == 1 },
		"required: lower, upper; required: special, [+]; max-consecutive: 2 ; " +
			"": func(_ Options, p string) bool { return strings.Trim(p, lower+upper+"+") == "" },
		"": func(o Options, p string) bool { return len(p) == 20 && o.Symbols },
	} {
		o, err := rules.Options(Default())
		require.NoError(t, err, rules)
		for range 20 {
			p, err := Password(rand.Reader, o)
			require.NoError(t, err)
			assert.True(t, want(o, p.Reveal()), "%s made %s", rules, p.Reveal())
		}
	}
	for _, bad := range []Rules{"minlength: many", "required: runes", "shoe: 43", "allowed: [ab", "minlength: -3",
		"maxlength: 3"} {
		_, err := bad.Options(Default())
		assert.Error(t, err, bad)
	}
}
