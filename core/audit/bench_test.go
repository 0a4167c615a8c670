package audit

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

// many are n logins of a household: a third have a password of their own, the others a few habits and their variations.
func many(t testing.TB, n int) (out []vault.Entry) {
	r := rand.New(rand.NewPCG(1, 2))
	word := func() string {
		b := make([]byte, 7)
		for i := range b {
			b[i] = "bcdfghklmnprstvwaeiou"[r.IntN(21)]
		}
		return string(b)
	}
	for i := range n {
		p := word() + word()
		if r.IntN(3) == 0 && i > 10 {
			p = out[r.IntN(i/10+1)].Text(vault.FieldPassword)
			if r.IntN(2) == 0 {
				p += fmt.Sprint(2000 + r.IntN(26))
			}
		}
		site := word()
		out = append(out, kept(t, fmt.Sprintf("%06d", i), site, []string{maren, "mt", "idris@cormorant.example"}[r.IntN(3)], p,
			"https://"+site+".example/"))
	}
	return out
}

// sorted is the measure: one sort of the rows by title.
func sorted(list []vault.Entry) time.Duration {
	rows := slices.Clone(list)
	began := time.Now()
	slices.SortFunc(rows, func(a, b vault.Entry) int {
		return strings.Compare(strings.ToLower(a.Text(vault.FieldTitle)), strings.ToLower(b.Text(vault.FieldTitle)))
	})
	return time.Since(began)
}

func BenchmarkTenThousand(b *testing.B) {
	list := many(b, 10_000)
	sort := time.Hour
	for range 5 {
		sort = min(sort, sorted(list))
	}
	var s *Survey
	for b.Loop() {
		var err error
		s, err = New(b.Context(), list, Options{Now: now})
		require.NoError(b, err)
		s.Spots(nil)
	}
	b.ReportMetric(float64(b.Elapsed())/float64(b.N)/float64(sort), "sorts")
	began := time.Now()
	s.Reach("000000")
	b.ReportMetric(float64(time.Since(began).Milliseconds()), "ms/reach")
	began = time.Now()
	s.Furthest(0)
	b.ReportMetric(float64(time.Since(began).Milliseconds()), "ms/furthest")
}
