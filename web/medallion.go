package web

import (
	"crypto/sha256"
	"fmt"
	"html/template"
	"math"
	"strconv"
	"strings"
	"sync"
	"unicode"
)

// medallion draws a vault's engraving from its seed: interlaced rosettes, each a
// closed curve r = a + b·cos(nθ) + c·cos(mθ + φ) with whole n and m that share the
// rosette's symmetry. The seed is known to the vault's own devices only, so the
// drawing can't be copied by a page that only imitates the front door.
//
// The result is an SVG of 100 by 100 units; with a rim, its circle of class
// medallion-rim has a length of 100, for the time left, and its lines can be engraved
// again on the page.
func medallion(seed []byte, rim bool) template.HTML {
	rnd := drawFrom(seed)
	var b strings.Builder
	if rim {
		b.WriteString(`<svg class="medallion-disc" viewBox="0 0 100 100" aria-hidden="true" focusable="false">` +
			`<circle class="medallion-track" cx="50" cy="50" r="47"/>` +
			`<circle class="medallion-rim" cx="50" cy="50" r="47" pathLength="100" transform="rotate(-90 50 50)"/>` +
			medallionField + `<g class="medallion-lines"><g id="engraving">`)
	} else {
		b.WriteString(engravingStart + `<g>`)
	}
	fold := 5 + int(rnd()*8) // the symmetry, 5 to 12
	for ring := range 3 + int(rnd()*2) {
		outer := 38 - float64(ring)*(7+3*rnd())
		depth := outer * (0.12 + 0.3*rnd())
		n, m := float64(fold), float64(fold*(2+int(rnd()*2)))
		c, phase, turn := outer*(0.04+0.1*rnd()), rnd()*2*math.Pi, rnd()*2*math.Pi/n
		for twin := range 2 { // two curves, half a petal apart, make the lace
			shift := turn + float64(twin)*math.Pi/n
			fmt.Fprintf(&b, `<path d="%s"/>`, curve(func(t float64) float64 {
				return outer - depth - c + depth*math.Cos(n*(t+shift)) + c*math.Cos(m*(t+shift)+phase)
			}))
		}
	}
	fmt.Fprintf(&b, `<circle cx="50" cy="50" r="40.2"/><circle cx="50" cy="50" r="%.1f"/></g></g></svg>`, 1.5+2*rnd())
	return template.HTML(b.String()) //nolint:gosec // numbers only
}

const (
	medallionField = `<circle class="medallion-field" cx="50" cy="50" r="42.5"/>`
	engravingStart = `<svg class="medallion-disc" viewBox="7` +
		` 7 86 86" aria-hidden="true" focusable="false">` + medallionField + `<g class="medallion-lines">`
)

// engravedAgain is the engraving on a page that has the medallion at its top: its
// lines, which are long, are there already.
const engravedAgain template.HTML = engravingStart + `<use href="#engraving"/></g></svg>`

// medallions are those drawn before: each page has one, mostly the same.
type medallions struct {
	mu    sync.Mutex
	drawn map[string]template.HTML
}

const mostMedallions = 32

func (m *medallions) of(seed []byte, rim bool) template.HTML {
	k := fmt.Sprint(string(seed), rim)
	m.mu.Lock()
	defer m.mu.Unlock()
	out, ok := m.drawn[k]
	if !ok {
		if m.drawn == nil || len(m.drawn) >= mostMedallions {
			m.drawn = map[string]template.HTML{}
		}
		out = medallion(seed, rim)
		m.drawn[k] = out
	}
	return out
}

// curve is a closed curve as path data, in steps of tenths that don't add up their
// rounding.
func curve(r func(t float64) float64) string {
	const steps = 240
	b := []byte{'M'}
	var px, py int // tenths of a unit
	for i := range steps {
		t := float64(i) / steps * 2 * math.Pi
		x, y := int(math.Round(10*(50+r(t)*math.Cos(t)))), int(math.Round(10*(50+r(t)*math.Sin(t))))
		b = tenths(b, x-px, i > 1)
		b = tenths(b, y-py, true)
		if i == 0 {
			b = append(b, 'l')
		}
		px, py = x, y
	}
	return string(append(b, 'Z'))
}

// tenths appends a number of tenths, short; after another one if that is so.
func tenths(b []byte, n int, after bool) []byte {
	switch {
	case n < 0:
		b, n = append(b, '-'), -n
	case after:
		b = append(b, ' ')
	}
	if n >= 10 || n == 0 {
		b = strconv.AppendInt(b, int64(n/10), 10)
	}
	if n%10 > 0 {
		b = append(b, '.', byte('0'+n%10))
	}
	return b
}

// drawFrom returns numbers from 0 to 1 that depend on the seed alone.
func drawFrom(seed []byte) func() float64 {
	var i byte
	return func() float64 {
		h := sha256.Sum256(append(append([]byte("medallion"), i), seed...))
		i++
		return float64(uint32(h[0])<<16|uint32(h[1])<<8|uint32(h[2])) / (1 << 24)
	}
}

// mark draws a site's mark: up to two letters in a polygon whose corners, turn
// and tint follow from the domain. Nothing is fetched from the site.
func mark(title, domain string) template.HTML {
	if domain == "" {
		domain = title
	}
	sum := sha256.Sum256([]byte("mark" + domain))
	i := 0
	rnd := func() float64 { // a number from 0 to 1 of every two bytes
		i += 2
		return float64(int(sum[i-2])<<8|int(sum[i-1])) / (1 << 16)
	}
	corners, turn, tint := 4+int(rnd()*5), rnd()*2*math.Pi, int(rnd()*6)
	var pts strings.Builder
	for k := range corners {
		t := turn + float64(k)/float64(corners)*2*math.Pi
		pts.WriteString(strconv.FormatFloat(16+14*math.Cos(t), 'f', 1, 64))
		pts.WriteByte(',')
		pts.WriteString(strconv.FormatFloat(16+14*math.Sin(t), 'f', 1, 64))
		pts.WriteByte(' ')
	}
	return template.HTML(
		fmt.Sprintf(
			`<span class="site-mark tint-%d" aria-hidden="true"><svg viewBox="0 0 32 32"><polygon points="%s"/>`+
				`</svg>%s</span>`, //nolint:gosec // escaped
			tint,
			strings.TrimSpace(pts.String()),
			template.HTMLEscapeString(initials(title)),
		),
	)
}

func initials(title string) string {
	var out []rune
	for _, w := range strings.FieldsFunc(title,
		func(r rune) bool { return !unicode.IsLetter(r) && !unicode.IsDigit(r) }) {
		out = append(out, []rune(strings.ToUpper(w))[0])
		if len(out) == 2 {
			break
		}
	}
	if len(out) == 0 {
		return "?"
	}
	return string(out)
}

// chain draws ten links, the first so many of them closed.
func chain(closed int) template.HTML {
	var b strings.Builder
	fmt.Fprintf(&b, `<svg class="chain" viewBox="0 0 204 20" role="img" aria-label="%d of 10 links closed">`, closed)
	for i := range 10 {
		class := "open"
		if i < closed {
			class = "closed"
		}
		x := 2 + i*20
		if i%2 == 0 {
			fmt.Fprintf(&b, `<rect class="%s" x="%d" y="4" width="22" height="12" rx="6"/>`, class, x)
		} else {
			fmt.Fprintf(&b, `<line class="%s" x1="%d" y1="10" x2="%d" y2="10"/>`, class, x, x+20)
		}
	}
	b.WriteString(`</svg>`)
	return template.HTML(b.String()) //nolint:gosec // numbers only
}
