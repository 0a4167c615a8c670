package audit

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"redlocket/core/secret"
	"redlocket/core/vault"
)

// everything is all that a survey says.
func everything(s *Survey) (out []any) {
	out = append(out, s.Spots(nil), s.Mailboxes(), s.Reused(), s.Furthest(0))
	for _, l := range s.logins {
		out = append(out, s.Reach(l.id))
	}
	return out
}

// Whatever was edited, added, archived or taken out since: with the memory of the survey before, the next one says what
// one without says.
func TestMemoryChangesNothing(t *testing.T) {
	for seed := range uint64(12) {
		r := rand.New(rand.NewPCG(seed, 5))
		list := many(t, 120)
		var m Memory
		_, err := m.Survey(t.Context(), list, Options{Now: now})
		require.NoError(t, err)
		for step := range 25 {
			i := r.IntN(len(list))
			by := vault.Stamp{At: now + int64(step), By: "desk"}
			var err error
			switch r.IntN(6) {
			case 0:
				list = slices.Delete(slices.Clone(list), i, i+1)
			case 1:
				list = append(slices.Clone(list), kept(t, fmt.Sprintf("new %d", step), "Knot", maren, fmt.Sprint("knot", r.IntN(3)),
					"https://knot.example/"))
			case 2:
				list[i], err = list[i].With(by, vault.Changes{vault.FieldTitle: fmt.Sprint("Title", r.IntN(5))})
			case 3:
				list[i], err = list[i].Archive(by)
			default:
				p := list[r.IntN(len(list))].Text(vault.FieldPassword)
				p = []string{p, p + "7", p + "!", "x" + p, "lantern" + p, ""}[r.IntN(6)]
				list[i], err = list[i].With(by, vault.Changes{vault.FieldPassword: secret.New(p)})
			}
			if err != nil { // archived already
				continue
			}
			with, err := m.Survey(t.Context(), list, Options{Now: now})
			require.NoError(t, err)
			without, err := New(t.Context(), list, Options{Now: now})
			require.NoError(t, err)
			require.Equal(t, everything(without), everything(with), "seed %d, step %d", seed, step)
		}
	}
}

// BenchmarkOneEdit is what a survey of ten thousand logins takes after one edit.
func BenchmarkOneEdit(b *testing.B) {
	list := many(b, 10_000)
	var m Memory
	_, err := m.Survey(b.Context(), list, Options{Now: now})
	require.NoError(b, err)
	n := 0
	for b.Loop() {
		n++
		by := vault.Stamp{At: now + int64(n), By: "desk"}
		list[n%len(list)], err = list[n%len(list)].With(by, vault.Changes{
			vault.FieldPassword: secret.New(fmt.Sprint("another one ", n)),
		})
		require.NoError(b, err)
		s, err := m.Survey(b.Context(), list, Options{Now: now})
		require.NoError(b, err)
		s.Spots(nil)
	}
	each := b.Elapsed() / time.Duration(b.N)
	b.ReportMetric(float64(each.Microseconds())/1000, "ms/edit")
	assert.NotZero(b, n)
}
