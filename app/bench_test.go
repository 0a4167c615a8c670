package app_test

import (
	"crypto/rand"
	"fmt"
	"runtime"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"redlocket/app"
	"redlocket/app/store"
	"redlocket/core/keys"
	"redlocket/core/secret"
	"redlocket/core/vault"
)

// large is a device with a vault of 10,000 logins.
func large(b *testing.B) (*app.Device, string) {
	f, err := store.In(b.TempDir())
	require.NoError(b, err)
	d := app.New(app.Ports{Stores: f, Rand: rand.Reader, Now: time.Now})
	b.Cleanup(func() { _ = d.Close() })
	v, err := d.Create(b.Context(), app.NewVault{Email: email, Password: secret.New(master), Repeat: secret.New(master)})
	require.NoError(b, err)
	var list []vault.Draft
	for i := range 10000 {
		list = append(list, vault.Draft{Title: fmt.Sprintf("Shop %d of Saltmarsh Quay", i), Username: fmt.Sprintf("maren.tolliver+%d@cormorant.example", i%40), Password: secret.New(fmt.Sprintf("vq7RtumKaleW9ox%d", i)),
			Folder: "Shops", Addresses: []vault.Address{{URL: fmt.Sprintf("https://shop-%d.example/sign-in", i)}}})
	}
	require.NoError(b, v.SaveAll(b.Context(), list))
	v.Lock()
	return d, v.Card().ID
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
			x, err := v.Index()
			require.NoError(b, err)
			require.Equal(b, 10000, x.Len(""))
			require.NotEmpty(b, x.Book("").Sites)
			b.StopTimer()
			v.Lock()
			b.StartTimer()
		}
		b.ReportMetric(float64(b.Elapsed())/float64(b.N)/floor, "x-floor")
	})
}

// BenchmarkMemory reports what an open vault of 10,000 logins holds, after a
// collection, and what the process took from the system, in MB.
func BenchmarkMemory(b *testing.B) {
	d, id := large(b)
	for b.Loop() {
		v, err := d.Unlock(b.Context(), id, secret.New(master))
		require.NoError(b, err)
		_, err = v.Index()
		require.NoError(b, err)
		runtime.GC()
		var m runtime.MemStats
		runtime.ReadMemStats(&m)
		b.ReportMetric(float64(m.HeapAlloc)/1e6, "heap-MB")
		b.ReportMetric(float64(m.Sys)/1e6, "sys-MB")
		v.Lock()
	}
}
