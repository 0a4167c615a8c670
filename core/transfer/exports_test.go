package transfer

import (
	"context"
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"redlocket/core/vault"
)

// TestExports reads made-up exports of many shapes. What is expected of each stands beside
// it: how it is written, what its columns are, and how many rows come into which group of a
// plan for a vault that has two logins. It was written with the files, not read
// from the program.
func TestExports(t *testing.T) {
	files, err := filepath.Glob("testdata/exports/*.csv")
	require.NoError(t, err)
	require.GreaterOrEqual(t, len(files), 25)
	for _, f := range files {
		t.Run(strings.TrimSuffix(filepath.Base(f), ".csv"), func(t *testing.T) {
			have := []vault.Entry{
				login(
					t,
					"1",
					"Gullwing Credit Union",
					"https://gullwing.example/sign-in",
					"maren.tolliver@cormorant.example",
					"vq7R-Tum",
					1700000000000,
				),
				login(t, "2", "Ferrylink", "https://ferrylink.example/", "mtolliver", "Tolliver85", 1700000000000),
			}
			var want struct {
				Encoding, Delimiter string
				Header              bool
				Columns             []Meaning
				Rows                map[string]int
			}
			b, err := os.ReadFile(strings.TrimSuffix(f, ".csv") + ".want.json")
			require.NoError(t, err)
			require.NoError(t, json.Unmarshal(b, &want))
			b, err = os.ReadFile(f)
			require.NoError(t, err)
			src, err := Read(context.Background(), filepath.Base(f), b, nil)
			require.NoError(t, err)
			assert.Equal(t, want.Encoding, src.Table.Encoding)
			assert.Equal(t, want.Delimiter, string(src.Table.Delimiter))
			assert.Equal(t, want.Header, src.Table.Header != nil)
			var columns []Meaning
			for _, c := range src.Column {
				columns = append(columns, c.Meaning)
			}
			assert.Equal(t, want.Columns, columns)
			p := newPlan(have, []Source{src}, Options{By: now})
			got := map[string]int{}
			for _, g := range Groups {
				if n := p.Count(g).Rows; n > 0 {
					got[string(g)] = n
				}
			}
			if len(p.Broken) > 0 {
				got["broken"] = len(p.Broken)
			}
			if n := len(src.Table.Skipped); n > 0 {
				got["skipped"] = n
			}
			assert.Equal(t, want.Rows, got, "%+v", p.Broken)

			// Twice is as once.
			once := bring(t, have, now, src)
			p = newPlan(once, []Source{src}, Options{By: later})
			assert.Equal(t, len(src.Rows), p.Count(GroupKnown).Rows)
			assert.Equal(t, shown(once), shown(bring(t, once, later, src)))
			for _, r := range src.Rows {
				if pw := r.Entry.Text(vault.FieldPassword); pw != "" {
					assert.True(t, func() bool {
						for _, e := range once {
							if hasPassword(e, pw) {
								return true
							}
						}
						return false
					}(), "the password of line %d is nowhere", r.Line)
				}
			}
		})
	}
}
