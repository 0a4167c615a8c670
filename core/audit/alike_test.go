package audit

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"redlocket/core/vault"
)

func TestAlike(t *testing.T) {
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
		assert.Equal(t, c.want, alike(c.a, c.b), name)
		assert.Equal(t, c.want, alike(c.b, c.a), name)
	}
}

// To the letter, and an empty one is none; the same account kept twice shares with nobody.
func TestReused(t *testing.T) {
	s, err := New(t.Context(), []vault.Entry{
		kept(t, "a", "Gull", "m", "one", "https://gull.example/"),
		kept(t, "b", "Tern", "m", "one", "https://tern.example/"),
		kept(t, "c", "Gull", "n", "One", "https://gull.example/"),
		kept(t, "d", "Kelp", "m", "", "https://kelp.example/"),
		kept(t, "e", "Whelk", "m", "", "https://whelk.example/"),
		kept(t, "f", "No site", "m", "one", ""),
		kept(t, "g", "Skerry", "m", "two", "https://skerry.example/"),
		kept(t, "h", "Skerry", "M", "two", "https://skerry.example/login"),
	}, Options{})
	assert.NoError(t, err)
	assert.Equal(t, []string{"a", "b", "f"}, s.Reused())
}
