package autofill

import (
	"encoding/json"
	"fmt"
	"maps"
	"os"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"redlocket/core/secret"
)

// The corpus: snapshots of the practice town's pages, and of pages of general-purpose
// open-source template packages from the npm registry (each names its own), taken by
// e2e/corpus.mjs. What their fields are for was written beside them by hand.
const corpus = "../../testdata/pages/"

type corpusPage struct {
	From     string   `json:"from"`
	Snapshot Snapshot `json:"snapshot"`
}

func readCorpus(t testing.TB) map[string]corpusPage {
	b, err := os.ReadFile(corpus + "pages.json")
	require.NoError(t, err)
	var out map[string]corpusPage
	require.NoError(t, json.Unmarshal(b, &out))
	return out
}

// told writes a reading the way truth.tsv does: kind and fields, by their number in the page.
func told(s Snapshot, r Reading) string {
	var parts []string
	for i, f := range s.Fields {
		if role, ok := r.Roles[f.ID]; ok && f.Form == r.Form {
			parts = append(parts, fmt.Sprintf("%d=%s", i, role))
		}
	}
	return string(r.Kind) + " " + strings.Join(parts, " ")
}

// readTruth reads truth.tsv: page, form's kind, and fields by their number in the page. A
// page without a line has nothing to be filled.
func readTruth(t testing.TB) map[string][]string {
	b, err := os.ReadFile(corpus + "truth.tsv")
	require.NoError(t, err)
	out := map[string][]string{}
	for line := range strings.Lines(string(b)) {
		name, form, ok := strings.Cut(strings.TrimSuffix(line, "\n"), "\t")
		if ok && !strings.HasPrefix(line, "#") {
			out[name] = append(out[name], form)
		}
	}
	return out
}

// TestCorpus counts the forms that are read as a whole as they should be, and checks that
// no secret is planned for a field that isn't its own, though every value is at hand.
func TestCorpus(t *testing.T) {
	pages, truth := readCorpus(t), readTruth(t)
	if os.Getenv("PRINT_CORPUS") != "" {
		for _, name := range slices.Sorted(maps.Keys(pages)) {
			for _, r := range Read(pages[name].Snapshot) {
				fmt.Printf("%s\t%s\n", name, told(pages[name].Snapshot, r))
			}
		}
	}
	require.GreaterOrEqual(t, len(pages), 120)
	for name := range truth {
		require.Contains(t, pages, name, "truth about a page that isn't there")
	}
	packages := map[string]bool{}
	right, forms, misplaced := 0, 0, 0
	for name, p := range pages {
		pack, _, _ := strings.Cut(name, ":")
		packages[pack] = true
		want := truth[name]
		var got []string
		roles := map[int]Role{} // by number
		for _, line := range want {
			for _, part := range strings.Fields(line)[1:] {
				i, role, _ := strings.Cut(part, "=")
				n, err := strconv.Atoi(i)
				require.NoError(t, err, line)
				require.True(t, known[Role(role)] || Role(role) == HouseNumber, "%s: %s", name, role)
				roles[n] = Role(role)
			}
		}
		for _, r := range Read(p.Snapshot) {
			got = append(got, told(p.Snapshot, r))
			fills, _ := Plan(
				p.Snapshot,
				r,
				Values{
					Username:    secret.New("m@x.example"),
					Password:    secret.New("old-1"),
					NewPassword: secret.New("new-1"),
					Code:        secret.New("123456"),
					Card:        debit,
					Person:      maren,
				},
			)
			for _, f := range fills {
				i := slices.IndexFunc(p.Snapshot.Fields, func(o Field) bool { return o.ID == f.Field })
				hidden := f.Role == CurrentPassword || f.Role == NewPassword || f.Role == OneTimeCode ||
					f.Role == CardNumber ||
					f.Role == CardCode
				if hidden && roles[i] != f.Role {
					misplaced++
					t.Errorf("%s: a %s was planned for field %d, %q", name, f.Role, i, p.Snapshot.Fields[i].Label)
				}
			}
		}
		forms += max(len(want), len(got))
		for _, line := range want {
			if slices.Contains(got, line) {
				right++
			} else {
				t.Logf("%s: %q isn't among %q", name, line, got)
			}
		}
		if len(want) == 0 && len(got) == 0 { // nothing to fill, and nothing is
			forms++
			right++
		}
	}
	t.Logf(
		"%d of %d forms right on %d pages of %d sources; %d secrets misplaced",
		right,
		forms,
		len(pages),
		len(packages),
		misplaced,
	)
	require.GreaterOrEqual(t, len(packages), 7)
	assert.GreaterOrEqual(t, float64(right), 0.98*float64(forms))
	assert.Zero(t, misplaced)
}

// BenchmarkRead reads and plans a page of 500 fields.
func BenchmarkRead(b *testing.B) {
	var s Snapshot
	for i, p := range slices.Collect(maps.Values(readCorpus(b))) {
		for _, f := range p.Snapshot.Fields {
			f.ID, f.Form = len(s.Fields), i
			s.Fields = append(s.Fields, f)
		}
		for _, f := range p.Snapshot.Forms {
			f.ID = i
			s.Forms = append(s.Forms, f)
		}
	}
	for len(s.Fields) < MaxFields {
		s.Fields = append(s.Fields, s.Fields[:min(len(s.Fields), MaxFields-len(s.Fields))]...)
	}
	for b.Loop() {
		Read(s)
	}
}
