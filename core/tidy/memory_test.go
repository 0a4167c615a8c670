package tidy

import (
	"context"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
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
			o := said(r)
			with, err := m.Find(t.Context(), list, o)
			require.NoError(t, err)
			without, err := Find(t.Context(), list, o)
			require.NoError(t, err)
			require.Equal(t, without, with, "seed %d, step %d", seed, step)
		}
	}
}

// What two rows are depends on others, too: the others come and go, and the two themselves stay as they are.
func TestMemoryOfOthers(t *testing.T) {
	const made = "hV7-qd2Lw9_xTz4"
	for name, c := range map[string]struct{ two, others []kept }{
		"a typing error, and two people elsewhere": {
			[]kept{{"Ferrylink", ferry, "maren.t", "kelp-1", "", ""}, {"Ferrylink", ferry, "maren.tt", "kelp-1", "", ""}},
			[]kept{
				{"Whelk", "https://whelk.example/", "maren.t", "winkle", "", ""},
				{"Whelk", "https://whelk.example/", "maren.tt", "another", "", ""},
			},
		},
		"no user name, and two that it could belong to": {
			[]kept{{"Ferrylink", ferry, "maren", "kelp-1", "", ""}, {"Ferrylink", ferry, "", "kelp-1", "", ""}},
			[]kept{{"Ferrylink", ferry, "idris", "kelp-1", "", ""}},
		},
		"one made password at two sites, and at a third": {
			[]kept{
				{"Topsail", "https://topsail.example/", "maren", made, "", ""},
				{"Topsail", "https://skysail.example/", "maren", made, "", ""},
			},
			[]kept{{"Moonraker", "https://moonraker.example/", "maren", made, "", ""}},
		},
	} {
		t.Run(name, func(t *testing.T) {
			all := entries(t, append(slices.Clone(c.two), c.others...)...)
			var m Memory
			proposes := func(list []vault.Entry) bool {
				found, err := m.Find(t.Context(), list, Options{})
				require.NoError(t, err)
				alone, err := Find(t.Context(), list, Options{})
				require.NoError(t, err)
				require.Equal(t, alone, found)
				return slices.ContainsFunc(found, func(p Proposal) bool {
					return slices.Contains(p.IDs, "000") && slices.Contains(p.IDs, "001")
				})
			}
			for range 2 {
				require.True(t, proposes(all[:2]), "the two alone")
				require.False(t, proposes(all), "beside the others")
			}
		})
	}
}

// A search that was stopped anywhere leaves nothing behind that another one takes for the whole.
func TestMemoryOfAStoppedSearch(t *testing.T) {
	list := entries(t, household(rand.New(rand.NewPCG(3, 7))).rows...)
	want, err := Find(t.Context(), list, Options{})
	require.NoError(t, err)
	stopped := 0
	for calls := 0; ; calls += 7 {
		var m Memory
		_, err := m.Find(&stopping{t.Context(), calls}, list, Options{})
		if err == nil {
			break
		}
		stopped++
		found, err := m.Find(t.Context(), list, Options{})
		require.NoError(t, err)
		require.Equal(t, want, found, "stopped after %d", calls)
	}
	require.Greater(t, stopped, 5)
}

// stopping is a context that ends after so many questions.
type stopping struct {
	context.Context
	left int
}

func (s *stopping) Err() error {
	if s.left--; s.left < 0 {
		return context.Canceled
	}
	return nil
}

// said are options that are others each time, as after a verdict, a try-out, or another list of sites.
func said(r *rand.Rand) (o Options) {
	n := r.IntN(7)
	by := func(ids ...string) bool {
		sum := n
		for _, b := range strings.Join(ids, "") {
			sum = sum*31 + int(b)
		}
		return sum%9 == 0
	}
	if r.IntN(3) == 0 {
		o.Apart = func(a, b string) bool { return by(a, b) || by(b, a) }
		o.Doubted = func(a, b string) bool { return by(a, b, "doubted") || by(b, a, "doubted") }
	}
	if r.IntN(3) == 0 {
		o.Refused = func(id string) bool { return by(id) }
		o.Used = func(id string) int64 { return int64(len(id)+n) * 1000 }
	}
	if r.IntN(3) == 0 {
		o.Site = func(domain string) string { return domain[:min(len(domain), n+1)] }
	}
	return o
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
