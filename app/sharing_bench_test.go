package app_test

import (
	"crypto/rand"
	"fmt"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"redlocket/app"
	"redlocket/app/records"
	"redlocket/core/keys"
	"redlocket/core/secret"
	"redlocket/core/share"
	"redlocket/core/vault"
)

const inSharedBook = 5000

// BenchmarkSharedBook has five people hold a book of 5,000 logins, all on this machine. It reports how long a change of
// one takes until the last of the others has it, how long the owner takes to bring all of it the first time, and how
// long taking somebody out takes: until all is sealed and brought anew, and until all who stay have that; beside bare
// sealing of as much.
func BenchmarkSharedBook(b *testing.B) {
	w := newWorld(b)
	people := []*app.Vault{w.createFor(w.device("maren"), "Maren", email)}
	var drafts []vault.Draft
	for i := range inSharedBook {
		drafts = append(drafts, vault.Draft{
			Title: fmt.Sprintf("Shop %d", i), Username: "mtolliver", Password: secret.New(fmt.Sprint("vq7RtumKaleW9ox", i)),
			Addresses: []vault.Address{{URL: fmt.Sprintf("https://shop-%d.example/sign-in", i)}},
		})
	}
	owner := people[0]
	require.NoError(b, owner.Items.SaveAll(b.Context(), drafts))
	book, err := owner.Books.Make(b.Context(), "Family")
	require.NoError(b, err)
	logins, err := owner.Book.Logins()
	require.NoError(b, err)
	var ids []string
	for _, it := range logins {
		ids = append(ids, it.ID)
	}
	_, err = owner.Acts.MoveTo(b.Context(), book, ids...)
	require.NoError(b, err)
	w.inStep(owner)
	var set string
	var begun time.Duration
	for i, name := range []string{"Idris", "Wren", "Rosa", "Bo"} {
		v := w.createFor(w.device(name), name, fmt.Sprintf("m%d@harbour.example", i))
		p := w.known(owner, v)
		at := time.Now()
		set, err = owner.Sharing.ShareBook(b.Context(), book, p.ID, share.Change)
		require.NoError(b, err)
		require.NoError(b, owner.Sharing.Collect(b.Context()))
		if begun == 0 {
			begun = time.Since(at)
		}
		waited(b, func() bool { of, err := v.Sharing.Of(set); return err == nil && of.Waits })
		require.NoError(b, v.Sharing.Take(b.Context(), set))
		people = append(people, v)
	}
	for _, v := range people {
		waited(b, func() bool { return sharedBy(b, v, set) == inSharedBook })
	}
	seal := keys.NewVault("floor", keys.NewRing(keys.VaultKey{}), rand.Reader)
	entry, err := owner.Items.Entry(ids[0])
	require.NoError(b, err)
	plain, err := entry.Encode()
	require.NoError(b, err)
	for b.Loop() {
		var took []time.Duration
		for i := range 40 {
			by := people[i%len(people)]
			id := titled(b, by, fmt.Sprintf("Shop %d", i*97))[0]
			at := time.Now()
			value := fmt.Sprint("changed ", at.UnixNano())
			require.NoError(b, by.Items.Save(b.Context(), id, vault.Changes{vault.FieldPassword: secret.New(value)}))
			for _, v := range people {
				if v == by {
					continue
				}
				theirs := titled(b, v, fmt.Sprintf("Shop %d", i*97))[0]
				waited(b, func() bool {
					e, err := v.Items.Entry(theirs)
					return err == nil && e.Text(vault.FieldPassword) == value
				})
			}
			took = append(took, time.Since(at))
		}
		slices.Sort(took)
		b.ReportMetric(float64(took[len(took)/2].Milliseconds()), "ms-median")
		b.ReportMetric(float64(took[len(took)*95/100].Milliseconds()), "ms-p95")

		at := time.Now()
		for i := range inSharedBook {
			_, err := seal.SealRecord(ids[i], 1, plain)
			require.NoError(b, err)
		}
		floor := time.Since(at)
		at = time.Now()
		require.NoError(b, owner.Sharing.End(b.Context(), set, "m3@harbour.example"))
		ended := time.Since(at)
		id := titled(b, owner, "Shop 1")[0]
		require.NoError(b, owner.Items.Save(b.Context(), id, vault.Changes{vault.FieldNotes: "after"}))
		for _, v := range people[1:4] {
			waited(b, func() bool {
				e, err := v.Items.Entry(titled(b, v, "Shop 1")[0])
				return err == nil && e.Text(vault.FieldNotes) == "after"
			})
		}
		b.ReportMetric(float64(begun.Milliseconds()), "ms-begin")
		b.ReportMetric(float64(ended.Milliseconds()), "ms-end")
		b.ReportMetric(float64(time.Since(at).Milliseconds()), "ms-end-all")
		b.ReportMetric(float64(floor.Milliseconds()), "ms-sealing")
	}
}

// waited is soon for what takes long.
func waited(b testing.TB, ok func() bool) {
	b.Helper()
	require.Eventually(b, ok, 40*time.Second, time.Millisecond)
}

func sharedBy(b testing.TB, v *app.Vault, set string) int {
	list, err := v.Book.Entries(func(e vault.Entry) bool { in, _ := e.Share(); return in == set && e.IsItem() })
	require.NoError(b, err)
	return len(list)
}

// BenchmarkTenBooks opens a vault of 10,000 logins in ten books, beside one of as many in one.
func BenchmarkTenBooks(b *testing.B) {
	for _, books := range []int{1, 10} {
		b.Run(fmt.Sprint(books), func(b *testing.B) {
			d, id := large(b)
			v, err := d.Unlock(b.Context(), id, secret.New(master))
			require.NoError(b, err)
			logins, err := v.Book.Logins()
			require.NoError(b, err)
			for n := 1; n < books; n++ {
				book, err := v.Books.Make(b.Context(), fmt.Sprint("Book ", n))
				require.NoError(b, err)
				var ids []string
				for i, it := range logins {
					if i%books == n {
						ids = append(ids, it.ID)
					}
				}
				_, err = v.Acts.MoveTo(b.Context(), book, ids...)
				require.NoError(b, err)
			}
			require.NoError(b, v.Books.Turn(b.Context(), records.AllBooks))
			v.Lock()
			for b.Loop() {
				v, err := d.Unlock(b.Context(), id, secret.New(master))
				require.NoError(b, err)
				x, err := v.Book.Index()
				require.NoError(b, err)
				require.Equal(b, 10000, x.Len(""))
				b.StopTimer()
				v.Lock()
				b.StartTimer()
			}
		})
	}
}
