package words_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"redlocket/core/words"
)

func TestParse(t *testing.T) {
	terms, err := words.Parse("# shells\n\nwinkle\tde\t~strandschnecke\r\nwinkle\ten\tedible winkle\nwinkle\tda\t=by")
	require.NoError(t, err)
	assert.Equal(t, []words.Term{
		{Says: "winkle", Language: "de", Text: "strandschnecke", Inside: true},
		{Says: "winkle", Language: "en", Text: "edible winkle"},
		{Says: "winkle", Language: "da", Text: "by", Whole: true},
	}, terms)
}

func TestParseRefuses(t *testing.T) {
	for _, bad := range []string{
		"winkle", "winkle\ten", "winkle\ten\t", "winkle\ten\t~", "winkle\ten\t=", "winkle\ten\t winkle", "\ten\twinkle",
		"winkle\tenglish\twinkle", "winkle\ten\twin\tkle",
	} {
		_, err := words.Parse("\n" + bad)
		assert.ErrorContains(t, err, "line 2", bad)
	}
	assert.Panics(t, func() { words.MustParse("winkle") })
}

func TestSets(t *testing.T) {
	assert.Equal(t, map[string]map[string]bool{"winkle": {"strandschnecke": true, "shell": true}, "whelk": {"id": true}},
		words.Sets("winkle\tde\t~strandschnecke\nwinkle\ten\tshell\nwhelk\t--\tid"))
}
