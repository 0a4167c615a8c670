package audit

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"redlocket/core/secret"
)

func login(id, domain, user, password string) Login {
	return Login{id, domain, user, secret.New(password)}
}

func TestReused(t *testing.T) {
	got := Reused([]Login{
		login(
			"a",
			"gull.example",
			"m",
			"one",
		), login("b", "tern.example", "m", "one"), login("c", "gull.example", "n", "One"),
		login("d", "kelp.example", "m", ""), login("e", "whelk.example", "m", ""), login("f", "", "m", "one"),
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
				login("a", "gull.example", c.a, "1"),
				login("b", "gull.example", c.b, "2"),
				login("c", "tern.example", c.a, "3"),
				login("d", "", c.a, "4"),
			},
		)
		assert.Equal(t, c.want, got["a"] && got["b"], name)
		assert.False(t, got["c"] || got["d"], "of another site, or of none: %s", name)
	}
}
