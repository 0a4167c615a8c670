package web_test

import (
	"fmt"
	"net/http"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"redlocket/core/secret"
	"redlocket/core/vault"
)

// tenThousand is a client of an open vault of 10,000 logins.
func tenThousand(b *testing.B) *client {
	c, _, v := setup(b)
	var list []vault.Draft
	birds := []string{
		"Avocet",
		"Curlew",
		"Dotterel",
		"Gannet",
		"Heron",
		"Plover",
		"Puffin",
		"Shelduck",
		"Turnstone",
		"Whimbrel",
	}
	trades := []string{
		"Bakery",
		"Chandlery",
		"Insurance",
		"Kitchens",
		"Library",
		"Museum",
		"Pharmacy",
		"Tickets",
		"Tools",
		"Travel",
	}
	for i := range 10000 {
		name := fmt.Sprintf("%s %s %d", birds[i%10], trades[i/10%10], i)
		list = append(
			list,
			vault.Draft{
				Title:    name,
				Username: []string{"mtolliver", "maren.t", "maren.tolliver@cormorant.example"}[i%3],
				Password: secret.New("p"),
				Folder:   trades[i%7],
				Addresses: []vault.Address{
					{URL: "https://" + strings.ToLower(strings.ReplaceAll(name, " ", "-")) + ".example/"},
				},
			},
		)
	}
	require.NoError(b, v.Items.SaveAll(b.Context(), list))
	c.open(v)
	return c
}

// BenchmarkFirstPage times the book as it is sent whole.
func BenchmarkFirstPage(b *testing.B) {
	c := tenThousand(b)
	for b.Loop() {
		require.Equal(b, http.StatusOK, c.do("GET", "/logins", nil).StatusCode)
	}
}

// BenchmarkKeystroke asks for the list of each keystroke of some searches in a book
// of 10,000 logins, and states the time of one and of the slowest twentieth.
func BenchmarkKeystroke(b *testing.B) {
	c := tenThousand(b)
	var queries []string
	for _, words := range []string{"gannet", "plover tools", "maren", "kit", "shelduck 77", "museum", "avocet bak",
		"gannte"} {
		for i := range words {
			queries = append(queries, words[:i+1])
		}
	}
	var times []time.Duration
	for b.Loop() {
		for _, q := range queries {
			at := time.Now()
			r := c.do(
				"GET",
				"/logins?q="+strings.ReplaceAll(q, " ", "+"),
				nil,
				"HX-Request",
				"true",
				"HX-Target",
				"book-list",
			)
			times = append(times, time.Since(at))
			require.Equal(b, http.StatusOK, r.StatusCode)
		}
	}
	slices.Sort(times)
	b.ReportMetric(float64(times[len(times)/2].Microseconds())/1000, "ms-median")
	b.ReportMetric(float64(times[len(times)*95/100].Microseconds())/1000, "ms-p95")
}
