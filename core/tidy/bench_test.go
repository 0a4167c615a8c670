package tidy

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"redlocket/core/vault"
)

// tenThousand are the rows of many households' lists, each at sites of its own.
func tenThousand(t testing.TB) []vault.Entry {
	var rows []kept
	for seed := uint64(1); len(rows) < 10_000; seed++ {
		for _, k := range household(rand.New(rand.NewPCG(seed, 7))).rows {
			k.address = strings.Replace(k.address, ".example", fmt.Sprintf("%d.example", seed), 1)
			rows = append(rows, k)
		}
	}
	return entries(t, rows[:10_000]...)
}

func BenchmarkTenThousand(b *testing.B) {
	list := tenThousand(b)
	sort := time.Hour
	for range 5 {
		rows := slices.Clone(list)
		began := time.Now()
		slices.SortFunc(rows, func(a, b vault.Entry) int {
			return strings.Compare(strings.ToLower(a.Text(vault.FieldTitle)), strings.ToLower(b.Text(vault.FieldTitle)))
		})
		sort = min(sort, time.Since(began))
	}
	for b.Loop() {
		_, err := Find(b.Context(), list, Options{})
		require.NoError(b, err)
	}
	b.ReportMetric(float64(b.Elapsed())/float64(b.N)/float64(sort), "sorts")
}
