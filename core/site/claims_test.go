package site

import (
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

// TestClaims: a page that calls itself by a kept name alarms where its address is made after that name, and only there.
func TestClaims(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 11))
	words := strings.Fields("heron ferry lantern tide harbour quay kelp winkle anchor mallow reed sedge")
	var names, domains []string
	for len(names) < 300 {
		n := keptName(r, words)
		if !slices.Contains(names, n) {
			names, domains = append(names, n), append(domains, n+".example")
		}
	}
	g := NewGuard(domains)
	called := map[string]string{}
	claim := func(host, title string) bool {
		_, ok := g.Claims("https://"+host+"/sign-in", title, called, nil)
		return ok
	}
	// worn takes letters out of a name and puts others in: further off than what alarms by itself.
	worn := func(n string) string {
		b := []byte(n)
		for range 2 {
			i := 1 + r.IntN(len(b)-2)
			if r.IntN(2) == 0 {
				b = slices.Delete(b, i, i+1)
			} else {
				b = slices.Insert(b, i, "aeiou"[r.IntN(5)])
			}
		}
		return string(b)
	}
	caught, alone, others, shops, hosted := 0, 0, 0, 0, 0
	for i, n := range names {
		host := worn(n) + ".example"
		for host == n+".example" { // what went out came back
			host = worn(n) + ".example"
		}
		if claim(host, "Sign in to "+strings.ToUpper(n[:1])+n[1:]) {
			caught++
		}
		if _, ok := g.Check("https://"+host, nil); ok {
			alone++
		}
		other := brand(r, 2+r.IntN(2))
		for slices.Contains(names, other) {
			other = brand(r, 3)
		}
		if claim(other+".example", other+" – Sign in") {
			others++
		}
		if claim(other+".example", "Everything for "+names[(i+1)%300]+" | "+other) {
			shops++
		}
		if claim("accounts."+other+".example", "Sign in – "+n) {
			hosted++
		}
	}
	t.Logf("of 300: caught %d (%d of them by the address alone), other sites %d, shops %d, hosted sign-ins %d",
		caught, alone, others, shops, hosted)
	assert.GreaterOrEqual(t, caught, 294)
	assert.Greater(t, caught, alone)
	assert.Zero(t, others)
	assert.Zero(t, shops)
	assert.LessOrEqual(t, hosted, 1)
}

// TestClaimsByWhatItIsCalled: the kept title counts as the name does.
func TestClaimsByWhatItIsCalled(t *testing.T) {
	g := NewGuard([]string{"cormorant.example"})
	called := map[string]string{"cormorant.example": "cormorant mail"}
	for page, want := range map[string]bool{
		"https://cormrnt-portal.example":  true,
		"https://cormarents.example":      true,
		"https://cormorant.example":       false, // the kept one itself
		"https://gullwing.example":        false,
		"https://127.0.0.1":               false,
		"https://greencormorant.example/": true, // it calls itself by the very name
	} {
		_, ok := g.Claims(page, "Cormorant Mail · Sign in", called, nil)
		assert.Equal(t, want, ok, page)
		_, ok = g.Claims(page, "The Green Cormorant Club", called, nil)
		assert.False(t, ok, page)
		_, ok = g.Claims(page, "", called, nil)
		assert.False(t, ok, page)
	}
	l, _ := g.Claims("https://cormarents.example", "Cormorant Mail", called, nil)
	assert.Equal(t, Likeness{
		Kept: "cormorant.example", Trick: TrickTitle, Domain: "cormarents.example", Here: l.Here, There: l.There,
	}, l)
}
