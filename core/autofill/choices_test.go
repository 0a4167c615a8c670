package autofill

import (
	"fmt"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestChoices has a choice made in each drop-down of testdata/pages/choices.tsv.
func TestChoices(t *testing.T) {
	b, err := os.ReadFile(corpus + "choices.tsv")
	require.NoError(t, err)
	tried := 0
	for line := range strings.Lines(string(b)) {
		if strings.HasPrefix(line, "#") {
			continue
		}
		cells := strings.Split(strings.TrimSpace(line), "\t")
		require.Len(t, cells, 5, line)
		lang, kept, want, label, choices := cells[0], cells[1], cells[2], cells[3], cells[4]
		person := map[Role]string{}
		for _, p := range strings.Split(kept, ";") {
			role, text, _ := strings.Cut(p, "=")
			person[Role(role)] = text
		}
		f := Field{Type: "select", Label: label}
		for i, c := range strings.Split(choices, "|") {
			value, text, ok := strings.Cut(c, "=")
			if !ok {
				value, text = fmt.Sprint(i), c
			}
			f.Options = append(f.Options, Option{value, text})
		}
		s := onePage("Go on", Field{Type: "text", Label: "First name"}, Field{Type: "text", Label: "Postcode"}, f)
		s.Lang = lang
		got := ""
		values, _ := filled(t, s, Values{Person: person})
		for _, o := range f.Options {
			if v, ok := values[2]; ok && o.Value == v {
				got = o.Text
			}
		}
		assert.Equal(t, want, got, line)
		tried++
	}
	assert.Greater(t, tried, 70)
}

func TestRegionInTwoLetters(t *testing.T) {
	s := onePage("Go on", Field{Type: "text", Label: "Postcode"}, Field{Type: "text", Label: "State", MaxLength: 2})
	got, _ := filled(t, s, Values{Person: map[Role]string{Postcode: "97401", Region: "Oregon", Country: "US"}})
	assert.Equal(t, "OR", got[1])
}
