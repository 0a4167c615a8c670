package secret

import (
	"bytes"
	"encoding/json"
	"encoding/xml"
	"fmt"
	"log/slog"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestNothingPrintsASecret(t *testing.T) {
	const plain = "hunter-of-winkles"
	s := New(plain)
	type Holder struct {
		Name string
		Pass Text
		Ptr  *Text
		List []Text
	}
	holder := Holder{"x", s, &s, []Text{s}}

	for _, verb := range []string{"%v", "%+v", "%#v", "%s", "%q", "%x", "%X", "%d", "%T %v"} {
		assert.NotContains(t, fmt.Sprintf(verb, s), plain, verb)
		assert.NotContains(t, fmt.Sprintf(verb, holder), plain, verb)
		assert.NotContains(t, fmt.Sprintf(verb, holder), fmt.Sprintf("%x", plain), verb)
	}
	j, err := json.Marshal(holder)
	require.NoError(t, err)
	assert.NotContains(t, string(j), plain)
	x, err := xml.Marshal(holder)
	require.NoError(t, err)
	assert.NotContains(t, string(x), plain)

	var buf bytes.Buffer
	slog.New(slog.NewJSONHandler(&buf, nil)).Info("m", "s", s, "h", holder)
	slog.New(slog.NewTextHandler(&buf, nil)).Info("m", "s", s, "h", holder)
	assert.NotContains(t, buf.String(), plain)
}

func TestRevealAndEqual(t *testing.T) {
	assert.Equal(t, "a", New("a").Reveal())
	assert.True(t, Text{}.IsEmpty())
	assert.Empty(t, Text{}.String())
	assert.True(t, New("a").Equal(New("a")))
	assert.False(t, New("a").Equal(New("b")))
}
