package audit

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"redlocket/core/secret"
)

func oneOf(id, domain, user, password string) Login {
	return Login{id, domain, user, secret.New(password)}
}

func TestReused(t *testing.T) {
	got := Reused([]Login{
		oneOf(
			"a",
			"gull.example",
			"m",
			"one",
		), oneOf("b", "tern.example", "m", "one"), oneOf("c", "gull.example", "n", "One"),
		oneOf("d", "kelp.example", "m", ""), oneOf("e", "whelk.example", "m", ""), oneOf("f", "", "m", "one"),
	})
	assert.Equal(t, map[string]bool{"a": true, "b": true, "f": true}, got, "to the letter, and an empty one is none")
	assert.Empty(t, Reused(nil))
}

func TestSuspects(t *testing.T) {
	for name, c := range map[string]struct {
		a, b string
		want bool
	}{
		"case":           {"Maren", "maren", true},
		"missing":        {"", "maren", true},
		"masked":         {"mt*****er", "mtolliver", true},
		"masked, other":  {"mt*****er", "idris", false},
		"masked address": {"m***@cormorant.example", "maren@cormorant.example", true},
		"two people":     {"maren", "idris", false},
		"one is longer":  {"maren", "maren.t", false},
		"two masks":      {"a*b*c", "axbxc", false},
	} {
		got := Suspects(
			[]Login{
				oneOf("a", "gull.example", c.a, "1"),
				oneOf("b", "gull.example", c.b, "2"),
				oneOf("c", "tern.example", c.a, "3"),
				oneOf("d", "", c.a, "4"),
			},
		)
		assert.Equal(t, c.want, got["a"] && got["b"], name)
		assert.False(t, got["c"] || got["d"], "of another site, or of none: %s", name)
	}
}
