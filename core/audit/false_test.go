package audit

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"redlocket/core/vault"
)

// People's passwords that have nothing to do with each other: of 2,000 at most one in a hundred is called similar to
// another one. Half are of two words and a number, half were made by a program.
func TestWhatIsUnlikeIsSeldomNear(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 7))
	syllable := func() string {
		return string("bcdfghklmnprstvw"[r.IntN(16)]) + string("aeiou"[r.IntN(5)]) + string("lnrstk"[r.IntN(6)])
	}
	const signs = "abcdefghijkmnpqrstuvwxyzABCDEFGHJKLMNPQRSTUVWXYZ23456789!#$%+-=?@"
	var list []vault.Entry
	for i := range 2000 {
		p := syllable() + syllable() + strings.Repeat("-", r.IntN(2)) + syllable() + fmt.Sprint(r.IntN(100))
		if i%2 == 0 {
			b := make([]byte, 14)
			for j := range b {
				b[j] = signs[r.IntN(len(signs))]
			}
			p = string(b)
		}
		list = append(list, kept(t, fmt.Sprintf("%04d", i), "Site", "m", p, fmt.Sprintf("https://s%d.example/", i)))
	}
	s := survey(t, list...)
	near := 0
	for _, l := range s.logins {
		if len(l.key.near) > 0 {
			near++
		}
	}
	t.Logf("%d of %d", near, len(list))
	assert.Less(t, near, len(list)/100)
}
