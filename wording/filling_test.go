package wording

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"redlocket/core/site"
)

func TestWhyAPageIsAnImitation(t *testing.T) {
	g := site.NewGuard([]string{"gullwing.example", "tidewaterlibrary.example", "harbourwater.example"})
	for page, want := range map[string]string{
		"https://gullwing.example.trickster.example/": "The name stands in front, but what counts is the end: this " +
			"page belongs to trickster.example.",
		"https://trickster.example/gullwing.example/": "The name stands in the path, behind the address that counts: " +
			"this page belongs to trickster.example.",
		"https://gullwing.test/": "The same name with another ending: .test in place of .example.",
		"https://gu11wing.example/": "Letters were replaced by others that look like them: the digit 1 in place of " +
			"the letter L.",
		"https://xn--gullwng-vog.example/": "Letters were replaced by those of another script that look the same; the " +
			"browser’s own name for it is xn--gullwng-vog.example.",
		"https://tidewater-library.example/":  "The hyphens stand in other places.",
		"https://harbourwater-login.example/": "The name has something added to it.",
		"https://harbourwatter.example/":      "It sounds the same, and is spelt otherwise.",
		"https://harbourwatzr.example/":       "It is spelt almost the same.",
	} {
		l, ok := g.Check(page, nil)
		if assert.True(t, ok, page) {
			assert.Equal(t, want, Likeness(l), page)
		}
	}
	assert.Equal(t, "a Cyrillic letter", character('і'))
	assert.Equal(t, "the accented letter Ł", character('ł'))
	assert.Equal(t, "a hyphen", character('-'))
	assert.Equal(t, "another character", character('☂'))
}
