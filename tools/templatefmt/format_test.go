package main

import (
	"html/template"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// rendered is what a template gives, for conditions that hold and that don't.
func rendered(t *testing.T, src string) (out []string) {
	x, err := template.New("").Parse(src)
	require.NoError(t, err, src)
	for _, data := range []map[string]any{{"A": true, "L": []string{"x", "y"}, "S": "text"}, {"A": false, "L": nil,
		"S": ""}} {
		var b strings.Builder
		require.NoError(t, x.Execute(&b, data), src)
		out = append(out, strings.TrimSpace(b.String()))
	}
	return out
}

// Whitespace that is rendered stays, and none is added, wherever lines have to be broken.
func TestInlineTextIsRenderedAlike(t *testing.T) {
	long := strings.Repeat("word ", 30)
	for _, src := range []string{
		`<span>a</span><b>b</b> <i>c</i>`,
		`<span>{{if .A}}` + long + `{{else}}no{{end}}</span>, and {{.S}}.`,
		`<p>` + long + `<b>bold</b>{{range .L}}, {{.}}{{end}} end</p>`,
		`<em>x</em>{{if .A}} with space{{end}}{{if .A}}` + long + `{{end}}<em>y</em>`,
		`<a class="` + strings.Repeat("c ", 60) + `" href="{{.S}}"{{if .A}} data-on="1"{{end}}>text</a>!`,
		`{{with .S}}<u>{{.}}</u>{{else}}` + long + `{{end -}}   tight`,
		"<pre>\n  as {{.S}}\n</pre> after",
		`a{{/* a note */}}b {{- " c"}}`,
		`<i class="` + strings.Repeat("c", 80) + `" title="two words">` + strings.Repeat("x", 20) + ` y</i><i id="1">z</i>`,
		`<i class="` + strings.Repeat("c", 96) + `"{{if .A}} title="x"{{end}}>` + strings.Repeat("x", 20) + `</i>`,
		"<textarea rows=\"2\">" + long + " as " + long + "</textarea>",
	} {
		src = "<div>" + src + "</div>" // what stands outside of all elements is blocks
		out := Format(src)
		was, is := rendered(t, src), rendered(t, out)
		for i := range was {
			assert.Equal(t, collapse(was[i]), collapse(is[i]), "%s\nbecame\n%s", src, out)
		}
		assert.Equal(t, out, Format(out), "formatted once is formatted")
	}
}

// What can be broken between attributes or words is, though tags stand close together.
func TestLongLinesAreBroken(t *testing.T) {
	out := Format(`<div><i class="` + strings.Repeat("c", 70) + `">` + strings.Repeat("x", 20) + `</i><b title="a b" ` +
		`class="` + strings.Repeat("d", 40) + `">` + strings.Repeat("y", 20) + ` z</b></div>`)
	for _, line := range strings.Split(out, "\n") {
		assert.LessOrEqual(t, len(line), width, out)
	}
}

// collapse is what a browser makes of whitespace between words and tags; of that in a tag it
// makes nothing.
func collapse(s string) string {
	s = strings.ReplaceAll(strings.Join(strings.Fields(s), " "), " >", ">")
	for _, block := range []string{"<p>", "</p>", "<div>", "</div>", "<pre>", "</pre>"} {
		s = strings.ReplaceAll(strings.ReplaceAll(s, " "+block, block), block+" ", block)
	}
	return s
}

func TestBlocksStandOnLinesOfTheirOwn(t *testing.T) {
	const src = `{{define "x"}}<ul>{{range .L}}<li>{{.}}</li>{{else}}<li>none</li>{{end}}</ul>{{end}}`
	const want = `{{define "x"}}
  <ul>
    {{range .L}}
      <li>{{.}}</li>
    {{else}}
      <li>none</li>
    {{end}}
  </ul>
{{end}}
`
	assert.Equal(t, want, Format(src))
}

// Every template of the project is formatted.
func TestTemplatesAreFormatted(t *testing.T) {
	for _, pattern := range []string{"../../web/templates/*.html", "../../practice/templates/*.html"} {
		files, err := filepath.Glob(pattern)
		require.NoError(t, err)
		require.NotEmpty(t, files)
		for _, file := range files {
			src, err := os.ReadFile(file)
			require.NoError(t, err)
			assert.True(t, Format(string(src)) == string(src), "run: go run ./tools/templatefmt %s", file)
		}
	}
}
