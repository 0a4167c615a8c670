package app_test

import (
	"bytes"
	"crypto/rand"
	"fmt"
	"runtime"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"redlocket/app"
	"redlocket/app/importing"
	"redlocket/app/records"
	"redlocket/app/store"
	"redlocket/core/autofill"
	"redlocket/core/keys"
	"redlocket/core/secret"
	"redlocket/core/transfer"
	"redlocket/core/vault"
)

// large is a device with a vault of 10,000 logins.
func large(b *testing.B) (*app.Device, string) {
	f, err := store.In(b.TempDir())
	require.NoError(b, err)
	d := app.New(app.Ports{Stores: f, Rand: rand.Reader, Now: time.Now})
	b.Cleanup(func() { _ = d.Close() })
	v, err := d.Create(
		b.Context(),
		app.NewVault{Email: email, Password: secret.New(master), Repeat: secret.New(master)},
	)
	require.NoError(b, err)
	var list []vault.Draft
	for i := range 10000 {
		list = append(
			list,
			vault.Draft{
				Title:     fmt.Sprintf("Shop %d of Saltmarsh Quay", i),
				Username:  fmt.Sprintf("maren.tolliver+%d@cormorant.example", i%40),
				Password:  secret.New(fmt.Sprintf("vq7RtumKaleW9ox%d", i)),
				Folder:    "Shops",
				Addresses: []vault.Address{{URL: fmt.Sprintf("https://shop-%d.example/sign-in", i)}},
			},
		)
	}
	require.NoError(b, v.Items.SaveAll(b.Context(), list))
	v.Lock()
	return d, v.Profile().ID
}

// BenchmarkLook takes a page of 500 fields and says what fits it, in a vault of 10,000
// logins: at a site that is kept, and at one that is held against all of them.
func BenchmarkLook(b *testing.B) {
	d, id := large(b)
	v, err := d.Unlock(b.Context(), id, secret.New(master))
	require.NoError(b, err)
	for name, url := range map[string]string{"kept": "https://shop-7.example/sign-in",
		"unknown": "https://unknown-harbour.example/sign-in"} {
		b.Run(name, func(b *testing.B) {
			var fields []autofill.Field
			for len(fields) < autofill.MaxFields {
				fields = append(fields, userField, passField, autofill.Field{Type: "text", Label: "Street address"})
			}
			p := form(url, "Sign in", "Sign in", fields[:autofill.MaxFields]...)
			var times []time.Duration
			for b.Loop() {
				from := time.Now()
				_, err := v.Pages.Read(b.Context(), p)
				require.NoError(b, err)
				times = append(times, time.Since(from))
			}
			slices.Sort(times)
			b.ReportMetric(float64(times[len(times)*95/100])/1e6, "p95-ms")
		})
	}
}

// BenchmarkUnlock opens a vault of 10,000 logins and has its book ready; the
// floor is bare Argon2id with the same parameters.
func BenchmarkUnlock(b *testing.B) {
	var floor float64 // ns
	b.Run("floor", func(b *testing.B) {
		p := keys.DefaultParams(make([]byte, keys.SaltSize))
		for b.Loop() {
			_, err := keys.Stretch(secret.New(master), p)
			require.NoError(b, err)
		}
		floor = float64(b.Elapsed()) / float64(b.N)
	})
	b.Run("unlock", func(b *testing.B) {
		d, id := large(b)
		for b.Loop() {
			v, err := d.Unlock(b.Context(), id, secret.New(master))
			require.NoError(b, err)
			x, err := v.Book.Index()
			require.NoError(b, err)
			require.Equal(b, 10000, x.Len(""))
			require.NotEmpty(b, x.Book("").Sites)
			b.StopTimer()
			v.Lock()
			b.StartTimer()
		}
		b.ReportMetric(float64(b.Elapsed())/float64(b.N)/floor, "x-floor")
	})
	b.Run("authenticator", func(b *testing.B) { // from its answer on
		d, id := large(b)
		v, err := d.Unlock(b.Context(), id, secret.New(master))
		require.NoError(b, err)
		setUp(b, v)
		v.Lock()
		for b.Loop() {
			v, err := d.UnlockByPlatform(b.Context(), id, thumbID, []byte("{}"), thumb)
			require.NoError(b, err)
			x, err := v.Book.Index()
			require.NoError(b, err)
			require.NotEmpty(b, x.Book("").Sites)
			b.StopTimer()
			v.Lock()
			b.StartTimer()
		}
	})
}

// BenchmarkMemory reports what an open vault of 10,000 logins holds, after a
// collection, and what the process took from the system, in MB.
func BenchmarkMemory(b *testing.B) {
	d, id := large(b)
	for b.Loop() {
		v, err := d.Unlock(b.Context(), id, secret.New(master))
		require.NoError(b, err)
		_, err = v.Book.Index()
		require.NoError(b, err)
		runtime.GC()
		var m runtime.MemStats
		runtime.ReadMemStats(&m)
		b.ReportMetric(float64(m.HeapAlloc)/1e6, "heap-MB")
		b.ReportMetric(float64(m.Sys)/1e6, "sys-MB")
		v.Lock()
	}
}

// BenchmarkImport plans and brings in 10,000 rows. The floor of the latter is bare sealing
// and bare inserts of the same bytes.
func BenchmarkImport(b *testing.B) {
	var csv bytes.Buffer
	csv.WriteString("name,url,username,password,note\n")
	for i := range 10000 {
		fmt.Fprintf(
			&csv,
			"Shop %d,https://shop-%d.example/sign-in,maren.tolliver+%d@cormorant.example,vq7RtumKaleW9ox%d,\n",
			i,
			i,
			i%40,
			i,
		)
	}
	f, err := store.In(b.TempDir())
	require.NoError(b, err)
	d := app.New(app.Ports{Stores: f, Rand: rand.Reader, Now: time.Now})
	b.Cleanup(func() { _ = d.Close() })
	var plan, commit, floor time.Duration
	n := 0
	for b.Loop() {
		n++
		v, err := d.Create(
			b.Context(),
			app.NewVault{
				Name:     fmt.Sprint("m", n),
				Email:    fmt.Sprintf("m%d@cormorant.example", n),
				Password: secret.New(master),
				Repeat:   secret.New(master),
			},
		)
		require.NoError(b, err)
		at := time.Now()
		i, bad, err := v.Imports.Prepare(b.Context(), []importing.File{{Name: "many.csv", Bytes: csv.Bytes()}})
		require.NoError(b, err)
		require.Empty(b, bad)
		plan += time.Since(at)
		at = time.Now()
		require.NoError(b, i.Start(false))
		for running := true; running; {
			i.View(func(_ *transfer.Plan, s importing.State) { running = s.Running })
			time.Sleep(time.Millisecond)
		}
		commit += time.Since(at)
		floor += bareImport(b, f, v, n)
		v.Lock()
	}
	b.ReportMetric(plan.Seconds()*1000/float64(n), "ms-plan")
	b.ReportMetric(commit.Seconds()*1000/float64(n), "ms-commit")
	b.ReportMetric(float64(commit)/float64(floor), "x-floor")
}

// bareImport seals and stores as many bytes as a vault has, and nothing else.
func bareImport(b *testing.B, f *store.Folder, v *app.Vault, n int) time.Duration {
	from, err := f.Open(b.Context(), v.Profile().ID)
	require.NoError(b, err)
	var rows []records.Row
	require.NoError(b, from.Rows(b.Context(), func(r records.Row) error {
		r.Blob = bytes.Clone(r.Blob)
		rows = append(rows, r)
		return nil
	}))
	to, err := f.Create(
		b.Context(),
		fmt.Sprintf("00000000-0000-7000-8000-%012d", n),
		func(app.Store) error { return nil },
	)
	require.NoError(b, err)
	seal := keys.NewVault("floor", keys.NewRing(keys.VaultKey{}), rand.Reader)
	at := time.Now()
	for i := range rows {
		rows[i].Blob, err = seal.SealRecord(rows[i].ID, 1, rows[i].Blob[:max(0, len(rows[i].Blob)-60)])
		require.NoError(b, err)
	}
	require.NoError(b, to.Put(b.Context(), rows, nil))
	return time.Since(at)
}
