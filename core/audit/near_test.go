package audit

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestNear(t *testing.T) {
	for _, c := range []struct {
		a, b string
		want Nearness
	}{
		{"Kelp-Ferry", "kelp-ferry", NearCase},
		{"kelpferry", "kelpferry1", NearEnd},
		{"kelpferry2019", "kelpferry2026!", NearEnd},
		{"!kelpferry", "kelpferry", NearEnd},
		{"kelpferry", "k3lpf3rry", NearSwap},
		{"lantern", "l@nt3rn7", NearSwap},
		{"kelpferry-whelk", "kelpferry-dory", NearSite},
		{"whelkKelp7", "doryKelp9", NearSite},
		{"yrrefplek", "kelpferry", NearReversed},
		{"48yrrefplek", "kelpferry85", NearReversed},
		{"whelkK3lpferry7", "kelpferry-Dory", NearSite},
		{"kelpferry", "k€lpf€rry", NearSwap},
		{"saltferries", "54ltf3rr1352019", NearSwap},
		{"kelpferry", "kelpferrywhe", NearSite},
		{"kelpferry", "whekelpferry", NearSite},
		{"kelpferry", "kelpferryKelpferry", NearTwice},
		{"kelpferry", "kelpfery", NearLetter},
		{"kelpferry", "klepferry", NearLetter},
		{"kelpferry", "kelpferry", NotNear},
		{"kelpferry", "", NotNear},
		{"kelpferry", "tidetable", NotNear},
		{"a1", "a2", NotNear},
		{"2019", "2026", NotNear},
		{"kelpferry", "kelpwharf", NotNear},
		{"Xq7#vLp2!mZr", "Bw9$kTn4?sDc", NotNear},
	} {
		assert.Equal(t, c.want, Near(c.a, c.b, "whelk", "dory"), "%s and %s", c.a, c.b)
		assert.Equal(t, c.want, Near(c.b, c.a, "whelk", "dory"), "%s and %s", c.b, c.a)
	}
}
