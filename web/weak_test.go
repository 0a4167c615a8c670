package web

import (
	"fmt"
	"math"
	"testing"

	"github.com/stretchr/testify/assert"

	"redlocket/core/audit"
)

// fallenAll is a reach of n logins: every third one falls with one that falls.
func fallenAll(n int) audit.Reach {
	r := audit.Reach{ID: "x"}
	for i := range n {
		f := audit.Fallen{ID: fmt.Sprintf("%04d", i), Step: 1, From: "x", Why: audit.SamePassword, Known: true}
		if i%3 == 2 {
			f.Step, f.From, f.Why = 2, fmt.Sprintf("%04d", i-1), audit.Resets
		}
		r.Fell = append(r.Fell, f)
	}
	return r
}

// However many fall: the names are inside the picture, no two lie on each other, and all are counted.
func TestAReachIsDrawnWithRoom(t *testing.T) {
	for _, n := range []int{1, 3, 20, 60, 300, 10_000} {
		d := drawReach(fallenAll(n), func(id string) string { return "Site " + id })
		told := 0
		for i, a := range d.Nodes {
			told += max(a.More, 1) + a.Same
			assert.True(t, a.X > 0 && a.X < d.Width && a.Y > 0 && a.Y < d.Height, "%d: %+v", n, a)
			for _, b := range d.Nodes[:i] {
				if a.Right == b.Right && a.Step == b.Step {
					assert.GreaterOrEqual(t, math.Abs(a.Y-b.Y), float64(reachSlot)-0.01, "%d: %s and %s", n, a.Name(), b.Name())
				}
			}
		}
		assert.LessOrEqual(t, len(d.Nodes), 2*reachLeaves)
		assert.Equal(t, n, told)
	}
}

func TestLoginsOfOneSiteAreOneName(t *testing.T) {
	d := drawReach(fallenAll(2), func(string) string { return "Lanternfish Films and Series" })
	assert.Len(t, d.Nodes, 1)
	assert.Equal(t, "Lanternfish Film… ×2", d.Nodes[0].Name())
}
