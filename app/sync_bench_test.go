package app_test

import (
	"bytes"
	"fmt"
	"io"
	"net"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"redlocket/app"
	"redlocket/app/records"
	"redlocket/app/store"
	"redlocket/app/syncing"
	"redlocket/core/keys"
	"redlocket/core/secret"
	"redlocket/core/vault"
)

// synced is a world with a vault of so many logins, in step, and the folder of its device.
func synced(b *testing.B, n int) (*world, *store.Folder, *app.Vault) {
	w := newWorld(b)
	f, err := store.In(b.TempDir())
	require.NoError(b, err)
	v := w.create(w.deviceIn(f))
	var list []vault.Draft
	for i := range n {
		list = append(list, vault.Draft{
			Title: fmt.Sprintf("Shop %d of Saltmarsh Quay", i), Username: fmt.Sprintf("maren+%d@cormorant.example", i%40),
			Password:  secret.New(fmt.Sprintf("vq7RtumKaleW9ox%d", i)),
			Addresses: []vault.Address{{URL: fmt.Sprintf("https://shop-%d.example/sign-in", i)}},
		})
	}
	require.NoError(b, v.Items.SaveAll(b.Context(), list))
	settled(b, v)
	return w, f, v
}

func settled(b *testing.B, v *app.Vault) {
	for deadline := time.Now().Add(time.Minute); ; time.Sleep(time.Millisecond) {
		s := v.Sync.Status()
		if s.State == syncing.InStep && s.Waiting == 0 && v.Epochs.OldKeys() == 0 {
			return
		}
		require.True(b, time.Now().Before(deadline), "%+v, %d old", s, v.Epochs.OldKeys())
	}
}

// BenchmarkTurn shuts a device out of a vault of 10,000 logins, until every record is sealed under the new key on the
// device and at the cloud; against sealing as many and writing them twice, and nothing else.
func BenchmarkTurn(b *testing.B) {
	w, f, v := synced(b, 10_000)
	var took, floor time.Duration
	n := 0
	for b.Loop() {
		n++
		guest := w.join(w.device(fmt.Sprint("guest", n)), v)
		settled(b, v)
		at := time.Now()
		require.NoError(b, v.Epochs.ShutOut(b.Context(), guest.Profile().Device, secret.New(master)))
		settled(b, v)
		took += time.Since(at)
		floor += bareTurn(b, f, v, n)
	}
	b.ReportMetric(took.Seconds()*1000/float64(n), "ms-turn")
	b.ReportMetric(float64(took)/float64(floor), "x-floor")
}

func bareTurn(b *testing.B, f *store.Folder, v *app.Vault, n int) time.Duration {
	from, err := f.Open(b.Context(), v.Profile().ID)
	require.NoError(b, err)
	var rows []records.Row
	require.NoError(b, from.Rows(b.Context(), func(r records.Row) error {
		r.Blob = bytes.Clone(r.Blob)
		rows = append(rows, r)
		return nil
	}))
	var to [2]app.Store
	for i := range to {
		id := fmt.Sprintf("00000000-0000-7000-8%03d-%012d", i, n)
		to[i], err = f.Create(b.Context(), id, func(app.Store) error { return nil })
		require.NoError(b, err)
	}
	seal := keys.NewVault("floor", keys.NewRing(keys.VaultKey{}), v.Rand())
	at := time.Now()
	for i := range rows {
		rows[i].Blob, err = seal.SealRecord(rows[i].ID, 1, rows[i].Blob[:max(0, len(rows[i].Blob)-60)])
		require.NoError(b, err)
	}
	for _, s := range to {
		require.NoError(b, s.Put(b.Context(), rows, nil))
	}
	return time.Since(at)
}

// BenchmarkCommit saves one login until the cloud has it, against two bare transactions of SQLite: one on the device,
// one at the cloud.
func BenchmarkCommit(b *testing.B) {
	w, f, v := synced(b, 100)
	bare, err := f.Create(b.Context(), records.NewID(), func(app.Store) error { return nil })
	require.NoError(b, err)
	row := records.Row{ID: "r", Rev: 1, Blob: make([]byte, 400)}
	var took, floor time.Duration
	n := 0
	for b.Loop() {
		n++
		at := time.Now()
		require.NoError(b, v.Items.Save(b.Context(), records.NewID(), login("One more", "pw")))
		require.NoError(b, v.Sync.Sync(b.Context()))
		took += time.Since(at)
		at = time.Now()
		for range 2 {
			require.NoError(b, bare.Put(b.Context(), []records.Row{row}, nil))
		}
		floor += time.Since(at)
	}
	_ = w
	b.ReportMetric(took.Seconds()*1000/float64(n), "ms-commit")
	b.ReportMetric(float64(took)/float64(floor), "x-floor")
}

// BenchmarkJoinSlowly brings a vault of 10,000 logins to a new device over 1 Mbit/s, where each connection breaks after
// a megabyte or so, against the bytes at that speed.
func BenchmarkJoinSlowly(b *testing.B) {
	w, _, v := synced(b, 10_000)
	sheet, err := v.Sheets.Sheet(b.Context())
	require.NoError(b, err)
	const speed = 1_000_000 / 8
	line := slowLine(b, strings.TrimPrefix(w.url, "http://"), speed, 1_100_000)
	n := 0
	var took time.Duration
	for b.Loop() {
		n++
		at := time.Now()
		joined, err := w.device(fmt.Sprint("far", n)).Join(b.Context(), app.Join{
			Email: email, Cloud: "http://" + line.addr, Password: secret.New(master),
			Carried: strings.Join(sheet.Carried, ""),
		})
		require.NoError(b, err)
		took += time.Since(at)
		joined.Lock()
	}
	all := everythingOf(b, w, v)
	floor := time.Duration(all) * time.Second / speed
	b.ReportMetric(took.Seconds()/float64(n), "s-join")
	b.ReportMetric(float64(all)/1e6, "MB")
	b.ReportMetric(float64(line.carried.Load())/float64(n)/float64(all), "x-sent")
	b.ReportMetric(took.Seconds()/float64(n)/floor.Seconds(), "x-line")
}

// everythingOf is how many bytes a vault is on the line, in one piece.
func everythingOf(b *testing.B, w *world, v *app.Vault) (n int) {
	all := changesOf(b, w, v)
	for _, h := range all.Heads {
		n += len(h.Blob)*4/3 + 30
	}
	for _, r := range all.Records {
		n += len(r.Blob)*4/3 + 80
	}
	return n
}

type slow struct {
	addr    string
	carried atomic.Int64 // bytes to the device
}

// slowLine passes connections on at a speed in bytes per second, and breaks each after so many bytes to the device.
func slowLine(b *testing.B, to string, speed, breaks int) *slow {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(b, err)
	b.Cleanup(func() { _ = l.Close() })
	s := &slow{addr: l.Addr().String()}
	go func() {
		for {
			near, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				defer near.Close()
				far, err := net.Dial("tcp", to)
				if err != nil {
					return
				}
				defer far.Close()
				go func() { _, _ = io.Copy(far, near); _ = far.(*net.TCPConn).CloseWrite() }()
				buf := make([]byte, 4096)
				for sent := 0; sent < breaks; {
					n, err := far.Read(buf)
					if err != nil {
						return
					}
					time.Sleep(time.Duration(n) * time.Second / time.Duration(speed))
					if _, err := near.Write(buf[:n]); err != nil {
						return
					}
					sent += n
					s.carried.Add(int64(n))
				}
			}()
		}
	}()
	return s
}
