package tidy

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"redlocket/core/secret"
	"redlocket/core/vault"
)

// Whatever was edited, archived or taken out since: with the memory of the search before, the next one finds what one
// without finds.
func TestMemoryChangesNothing(t *testing.T) {
	for seed := range uint64(8) {
		r := rand.New(rand.NewPCG(seed, 11))
		list := entries(t, household(rand.New(rand.NewPCG(seed, 7))).rows...)
		var m Memory
		for step := range 20 {
			i := r.IntN(len(list))
			by := vault.Stamp{At: 1_800_000_000_000 + int64(step), By: "desk"}
			var err error
			switch r.IntN(5) {
			case 0:
				list = slices.Delete(slices.Clone(list), i, i+1)
			case 1:
				list[i], err = list[i].Archive(by)
			case 2:
				list[i], err = list[i].With(by, vault.Changes{vault.FieldTitle: fmt.Sprint("Title ", r.IntN(4))})
			case 3:
				list[i], err = list[i].With(by, vault.Changes{
					vault.FieldUsername: list[r.IntN(len(list))].Text(vault.FieldUsername),
				})
			default:
				list[i], err = list[i].With(by, vault.Changes{
					vault.FieldPassword: secret.New(list[r.IntN(len(list))].Text(vault.FieldPassword) + "7"),
				})
			}
			if err != nil { // archived already
				continue
			}
			with, err := m.Find(t.Context(), list, Options{})
			require.NoError(t, err)
			without, err := Find(t.Context(), list, Options{})
			require.NoError(t, err)
			require.Equal(t, without, with, "seed %d, step %d", seed, step)
		}
	}
}

// BenchmarkOneEdit is what a search through ten thousand logins takes after one edit.
func BenchmarkOneEdit(b *testing.B) {
	list := tenThousand(b)
	var m Memory
	_, err := m.Find(b.Context(), list, Options{})
	require.NoError(b, err)
	n := 0
	for b.Loop() {
		n++
		by := vault.Stamp{At: 1_800_000_000_000 + int64(n), By: "desk"}
		list[n%len(list)], err = list[n%len(list)].With(by, vault.Changes{
			vault.FieldPassword: secret.New(fmt.Sprint("another one ", n)),
		})
		require.NoError(b, err)
		_, err = m.Find(b.Context(), list, Options{})
		require.NoError(b, err)
	}
	b.ReportMetric(float64((b.Elapsed()/time.Duration(n)).Microseconds())/1000, "ms/edit")
}
