package main

import (
	"bytes"
	"context"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/jmoiron/sqlx"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"redlocket/app/cloudclient"
	"redlocket/core/keys"
	"redlocket/core/wire"
)

// What a device that only listens costs the cloud, as the system counts the process's memory, and whether so many are
// told of a commit. REDLOCKET_IDLE says how many; without it a few show that it works.
func TestIdleDevices(t *testing.T) {
	n := 200
	if s := os.Getenv("REDLOCKET_IDLE"); s != "" {
		var err error
		n, err = strconv.Atoi(s)
		require.NoError(t, err)
	} else if testing.Short() {
		t.Skip("builds the program")
	}
	if _, err := os.Stat("/proc/self/status"); err != nil {
		t.Skip("this system doesn't tell what a process holds there")
	}
	dir := t.TempDir()
	bin := filepath.Join(dir, "redlocket")
	out, err := exec.Command("go", "build", "-tags", buildTags(), "-o", bin, ".").CombinedOutput()
	require.NoError(t, err, string(out))
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	addr := l.Addr().String()
	require.NoError(t, l.Close())
	p := exec.Command(bin, "cloud", "--data", filepath.Join(dir, "cloud.db"), "--listen", addr)
	var log bytes.Buffer
	p.Stderr = &log
	require.NoError(t, p.Start())
	defer func() {
		assert.NoError(t, p.Process.Signal(syscall.SIGTERM))
		assert.NoError(t, p.Wait(), "it ends gracefully: %s", &log)
	}()
	c, err := cloudclient.Dial("http://" + addr)
	require.NoError(t, err)
	key := keys.NewSigning()
	in := wire.NewAccount{
		Email: "maren@cormorant.example", Vault: uuid.NewString(), Device: uuid.NewString(),
		Credentials: wire.Credentials{
			Params: keys.DefaultParams(make([]byte, keys.SaltSize)), SignIn: bytes.Repeat(key.Public(), keys.Slots),
			RecoverySignIn: keys.NewSigning().Public(), Wrapped: []byte("w"), RecoveryWrapped: []byte("rw"),
		},
	}
	var credential string
	require.Eventually(t, func() bool {
		session, err := c.CreateAccount(t.Context(), key, in)
		credential = session.Credential
		return err == nil
	}, 20*time.Second, 50*time.Millisecond)

	devices := otherDevices(t, filepath.Join(dir, "cloud.db"), in.Device, n)
	before := resident(t, p.Process.Pid)
	ctx, cancel := context.WithCancel(t.Context())
	defer cancel()
	var listening, told atomic.Int64
	var ended sync.WaitGroup
	gate := make(chan struct{}, 50) // come in at once
	for _, device := range devices {
		own := strings.Replace(credential, in.Device, device, 1)
		gate <- struct{}{}
		ended.Go(func() {
			var once sync.Once
			in := func() { once.Do(func() { listening.Add(1); <-gate }) }
			defer in()
			_ = c.Events(ctx, own, func(head uint64) { // until it is ended
				in()
				if head > 0 {
					told.Add(1)
				}
			})
		})
	}
	require.Eventually(t, func() bool { return listening.Load() == int64(n) }, 2*time.Minute, 10*time.Millisecond)
	time.Sleep(time.Second) // what was only needed to come in is given back
	each := float64(resident(t, p.Process.Pid)-before) / float64(n)
	require.NoError(t, c.Commit(t.Context(), credential, wire.Commit{Head: wire.Head{Number: 1, Blob: []byte("h")}}))
	assert.Eventually(t, func() bool { return told.Load() == int64(n) }, time.Minute, 10*time.Millisecond)
	t.Logf("%d devices listen, at %.1f KB each", n, each/1000)
	if os.Getenv("REDLOCKET_IDLE") != "" {
		assert.LessOrEqual(t, each, 30_000.)
	}
	cancel()
	ended.Wait()
}

// otherDevices gives a device's account more of them, which sign with the same key.
func otherDevices(t *testing.T, file, device string, n int) (ids []string) {
	db, err := sqlx.Open("sqlite", "file:"+file+"?_pragma=busy_timeout(10000)&_txlock=immediate")
	require.NoError(t, err)
	defer func() { assert.NoError(t, db.Close()) }()
	tx, err := db.Beginx()
	require.NoError(t, err)
	for range n {
		id := uuid.NewString()
		_, err := tx.Exec(`INSERT INTO sessions (account, device, public, created, seen)
			SELECT account, ?, public, created, seen FROM sessions WHERE device = ?`, id, device)
		require.NoError(t, err)
		ids = append(ids, id)
	}
	require.NoError(t, tx.Commit())
	return ids
}

// resident is how many bytes of memory a process holds.
func resident(t *testing.T, pid int) int {
	b, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
	require.NoError(t, err)
	_, rest, _ := strings.Cut(string(b), "VmRSS:")
	kb, err := strconv.Atoi(strings.Fields(rest)[0])
	require.NoError(t, err)
	return kb << 10
}
