package directory

import (
	"encoding/json"
	"errors"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"redlocket/core/generator"
	"redlocket/core/vault"
)

func TestShipped(t *testing.T) {
	d := New(Shipped())
	s, ok := d.Lookup("quayferries.example")
	require.True(t, ok)
	assert.Equal(t, "Ferrylink", s.Name)
	assert.True(t, d.Same("ferrylink.example", "quayferries.example"))
	assert.False(t, d.Same("ferrylink.example", "ferrylink.example"), "that is no other domain")
	assert.False(t, d.Same("ferrylink.example", "gullwing.example"))
	assert.False(t, d.Same("nobody.example", "nowhere.example"))
	assert.Contains(t, d.Names("ferrylink.example"), "Quay Ferries")
	assert.Contains(t, d.Names("ferrylink.example"), "quayferries.example")
	assert.Nil(t, d.Names("nobody.example"))
}

func TestSuggest(t *testing.T) {
	d := New(Shipped())
	for typed, want := range map[string]string{"gull": "Gullwing Credit Union", "Quay F": "Ferrylink",
		"credit": "Gullwing Credit Union", "pandp": "Pantry & Pier", "school": "Saltmarsh School"} {
		got := d.Suggest(typed, 5)
		require.NotEmpty(t, got, typed)
		assert.Equal(t, want, got[0].Name, typed)
	}
	assert.Empty(t, d.Suggest("zzz", 5))
	assert.Empty(t, d.Suggest(" ", 5))
	assert.Len(t, d.Suggest("l", 1), 1)
}

func TestOwnListDecidesFirst(t *testing.T) {
	own, err := Parse(
		[]byte(
			`{"format":"red-locket-sites/1","sites":[{"name":"My Ferry","domains":["FERRYLINK.example","slowboat.example"]}]}`,
		),
	)
	require.NoError(t, err)
	d := New(own, Shipped())
	assert.True(t, d.Same("ferrylink.example", "slowboat.example"))
	assert.False(t, d.Same("ferrylink.example", "quayferries.example"))
	assert.Equal(t, "My Ferry", d.Suggest("ferry", 2)[0].Name)
	b, err := Encode(own)
	require.NoError(t, err)
	back, err := Parse(b)
	require.NoError(t, err)
	assert.Equal(t, own, back)
}

func TestMatches(t *testing.T) {
	d := New(Shipped())
	at := func(url string, m vault.Match) vault.Address { return vault.Address{URL: url, Match: m} }
	assert.True(t, d.Matches(at("https://ferrylink.example/", ""), "https://book.quayferries.example/seats"))
	assert.True(t, d.Matches(at("https://ferrylink.example/", ""), "https://ferrylink.example/x"))
	assert.False(
		t,
		d.Matches(at("https://ferrylink.example/", ""), "http://quayferries.example/"),
		"never over http for https",
	)
	assert.False(
		t,
		d.Matches(at("https://ferrylink.example/", vault.MatchHost), "https://quayferries.example/"),
		"this host only is this host only",
	)
	assert.False(t, d.Matches(at("https://ferrylink.example/", ""), "https://quayferries.example.trickster.example/"))
	assert.False(t, new(Directory).Matches(at("https://ferrylink.example/", ""), "https://quayferries.example/"))
}

func TestBadLists(t *testing.T) {
	for text, want := range map[string]error{
		``: ErrNotAList, `[]`: ErrNotAList, `{"format":"other","sites":[]}`: ErrFormat,
		`{"format":"red-locket-sites/1","sites":[],"x":1}`:                                                                    ErrNotAList,
		`{"format":"red-locket-sites/1","sites":[]}{}`:                                                                        ErrNotAList,
		`{"format":"red-locket-sites/1","sites":[{"name":"","domains":["a.example"]}]}`:                                       ErrName,
		`{"format":"red-locket-sites/1","sites":[{"name":"A","domains":[]}]}`:                                                 ErrNoDomain,
		`{"format":"red-locket-sites/1","sites":[{"name":"A","domains":["www.a.example"]}]}`:                                  ErrHost,
		`{"format":"red-locket-sites/1","sites":[{"name":"A","domains":["a.example"],"sign_in":"https://b.example/"}]}`:       ErrForeign,
		`{"format":"red-locket-sites/1","sites":[{"name":"A","domains":["a.example"]},{"name":"B","domains":["a.example"]}]}`: ErrTaken,
		`{"format":"red-locket-sites/1","sites":[{"name":"A","domains":["a.example"],"rules":"minlength: x"}]}`:               nil,
		`{"format":"red-locket-sites/1","sites":[` + strings.Repeat(`{"name":"A","domains":["a.example"]},`,
			20000) + `{}` + `]}`: ErrTooLarge,
	} {
		_, err := Parse([]byte(text))
		require.Error(t, err)
		var rule *generator.RuleError
		assert.True(t, want == nil && errors.As(err, &rule) || errors.Is(err, want), text[:min(len(text), 120)])
	}
}

// The schema in docs names what the package reads, and nothing else.
func TestSchemaNamesEveryKey(t *testing.T) {
	b, err := os.ReadFile("../../docs/sites.schema.json")
	require.NoError(t, err)
	var schema struct {
		Properties struct {
			Sites struct {
				Items struct{ Properties map[string]any }
			}
		}
	}
	require.NoError(t, json.Unmarshal(b, &schema))
	one, err := json.Marshal(
		Site{
			Name:    "n",
			Domains: []string{"d"},
			Aliases: []string{"a"},
			SignIn:  "s",
			Change:  "c",
			Rules:   "r",
			Apps:    []string{"a"},
		},
	)
	require.NoError(t, err)
	var keys map[string]any
	require.NoError(t, json.Unmarshal(one, &keys))
	for k := range keys {
		assert.Contains(t, schema.Properties.Sites.Items.Properties, k)
	}
	assert.Len(t, schema.Properties.Sites.Items.Properties, len(keys))
}

func FuzzParse(f *testing.F) {
	f.Add(shipped)
	f.Add(
		[]byte(`{"format":"red-locket-sites/1","sites":[{"name":"A","domains":["a.example"],"rules":"allowed: [x"}]}`),
	)
	f.Fuzz(func(t *testing.T, b []byte) {
		sites, err := Parse(b)
		if err != nil {
			return
		}
		New(sites).Suggest("a", 3)
		out, err := Encode(sites)
		if err != nil {
			t.Fatal(err)
		}
		if _, err := Parse(out); err != nil && len(out) <= MaxBytes {
			t.Fatalf("can't read back: %v", err)
		}
	})
}
