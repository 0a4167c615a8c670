package app_test

import (
	"bufio"
	"bytes"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"log/slog"
	mrand "math/rand/v2"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"redlocket/app"
	"redlocket/app/cloudclient"
	"redlocket/app/folder"
	"redlocket/app/importing"
	"redlocket/app/records"
	"redlocket/app/store"
	"redlocket/app/syncing"
	"redlocket/cloud"
	"redlocket/core/secret"
	"redlocket/core/transfer"
	"redlocket/core/vault"
	"redlocket/wording"
)

// The crash test runs this test binary again as a cloud, a saving device or a
// joining one, and kills it.
func TestMain(m *testing.M) {
	role := os.Getenv("REDLOCKET_CRASH")
	if role == "" {
		os.Exit(m.Run())
	}
	if err := crashRole(role, os.Getenv("REDLOCKET_DIR"), os.Getenv("REDLOCKET_CLOUD"),
		os.Getenv("REDLOCKET_CARRIED")); err != nil {
		fmt.Println("error", wording.Error(err))
		os.Exit(1)
	}
}

func crashRole(role, dir, addr, carried string) error {
	ctx := context.Background()
	if role == "cloud" {
		c, err := cloud.New(
			ctx,
			filepath.Join(dir, "cloud.db"),
			cloud.Limits{PerAccount: 1 << 20, PerAddress: 1 << 20, Window: time.Minute},
			slog.New(slog.NewTextHandler(io.Discard, nil)),
		)
		if err != nil {
			return err
		}
		l, err := net.Listen("tcp", addr)
		if err != nil {
			return err
		}
		fmt.Println("ready")
		return http.Serve(l, c)
	}
	f, err := store.In(filepath.Join(dir, role))
	if err != nil {
		return err
	}
	d := app.New(app.Ports{Stores: f, Dial: cloudclient.Dial, Rand: rand.Reader, Now: time.Now, Platform: "test"})
	d.SetFolders(folder.Folders{})
	fmt.Println("ready")
	if role == "joining" {
		_, err := d.Join(
			ctx,
			app.Join{Email: email, Cloud: "http://" + addr, Password: secret.New(master), Carried: carried},
		)
		fmt.Println("joined", err)
		return err
	}
	cards, err := d.Profiles(ctx)
	if err != nil {
		return err
	}
	v, err := d.Unlock(ctx, cards[0].ID, secret.New(master))
	if err != nil {
		return err
	}
	switch role {
	case "importing":
		return crashImport(ctx, v)
	case "turning":
		return crashTurn(ctx, v, dir, addr)
	case "unlocking":
		return crashUnlocks(ctx, v)
	case "leaving-out":
		return crashLeavingOut(ctx, v, carried)
	case "backing-up":
		return crashBackup(ctx, v, carried)
	case "sharing":
		return crashSharing(ctx, v, carried)
	case "full":
		return saveOnAFullDisk(ctx, v)
	}
	ids := []string{}
	for i := 0; ; i++ {
		id := records.NewID()
		if i%3 == 2 {
			id = ids[mrand.IntN(len(ids))]
		}
		value := strconv.Itoa(i)
		if err := v.Items.Save(ctx, id, vault.Changes{vault.FieldTitle: "t",
			vault.FieldPassword: secret.New(value)}); err != nil {
			return err
		}
		ids = append(ids, id)
		fmt.Println("saved", id, value)
		time.Sleep(time.Duration(mrand.IntN(4)) * time.Millisecond)
	}
}

// killsOr is how often a test kills: as often as REDLOCKET_KILLS says, or n times.
func killsOr(t *testing.T, n int) int {
	t.Helper()
	if testing.Short() {
		t.Skip("long: run without -short")
	}
	if more, err := strconv.Atoi(os.Getenv("REDLOCKET_KILLS")); err == nil {
		return more
	}
	return n
}

// saveOnAFullDisk is set where the system can make a disk look full.
var saveOnAFullDisk func(ctx context.Context, v *app.Vault) error

// crashTurn saves, lets devices in and shuts them out, and publishes anew, over and over.
func crashTurn(ctx context.Context, v *app.Vault, dir, addr string) error {
	for i := 0; ; i++ {
		id := records.NewID()
		if err := v.Items.Save(ctx, id, vault.Changes{vault.FieldTitle: "t"}); err != nil {
			return err
		}
		fmt.Println("saved", id)
		if i%3 == 2 {
			if err := v.Epochs.Publish(ctx, secret.New(master)); err != nil {
				return err
			}
			fmt.Println("published")
			continue
		}
		if err := v.Sync.Sync(ctx); err != nil {
			return err
		}
		f, err := store.In(filepath.Join(dir, "guest-"+id))
		if err != nil {
			return err
		}
		d := app.New(app.Ports{Stores: f, Dial: cloudclient.Dial, Rand: rand.Reader, Now: time.Now, Platform: "test"})
		sheet, err := v.Sheets.Sheet(ctx)
		if err != nil {
			return err
		}
		guest, err := d.Join(ctx, app.Join{
			Email: email, Cloud: "http://" + addr, Password: secret.New(master), Carried: strings.Join(sheet.Carried, ""),
		})
		if err != nil {
			return err
		}
		out := guest.Profile().Device
		if err := d.Close(); err != nil {
			return err
		}
		if err := v.Epochs.ShutOut(ctx, out, secret.New(master)); err != nil {
			return err
		}
		fmt.Println("out", out)
	}
}

// A process is killed at random moments of shutting out and publishing, and of sealing anew after it: everything that
// was acknowledged is there, it opens with the same master password, comes in step by itself, and a new device joins.
func TestTurningKilledAtAnyMoment(t *testing.T) {
	t.Parallel()
	kills := killsOr(t, 6)
	w := newWorld(t)
	dir := t.TempDir()
	folder, err := store.In(filepath.Join(dir, "turning"))
	require.NoError(t, err)
	d := w.deviceIn(folder)
	v := w.create(d)
	profile := v.Profile().ID
	for range 40 {
		require.NoError(t, v.Items.Save(t.Context(), records.NewID(), login("Before", "pw")))
	}
	w.inStep(v)
	require.NoError(t, d.Close())
	addr := strings.TrimPrefix(w.url, "http://")
	saved, out := map[string]bool{}, map[string]bool{}
	for range kills {
		p := run(t, "turning", dir, addr, "")
		first := <-p.lines
		time.Sleep(time.Duration(mrand.IntN(1500)) * time.Millisecond)
		for _, line := range append([]string{first}, p.kill()...) {
			kind, id, _ := strings.Cut(line, " ")
			switch kind {
			case "saved":
				saved[id] = true
			case "out":
				out[id] = true
			case "published":
			default:
				t.Fatalf("the device said %q", line)
			}
		}
		d := w.deviceIn(folder)
		v, err := d.Unlock(t.Context(), profile, secret.New(master))
		require.NoError(t, err)
		require.Eventually(t, func() bool {
			s := v.Sync.Status()
			return s.State == syncing.InStep && s.Waiting == 0 && v.Epochs.OldKeys() == 0
		}, patience, 10*time.Millisecond, "%+v", v.Sync.Status())
		for id := range saved {
			require.True(t, holds(v, id)(), "an acknowledged save is gone")
		}
		for id := range out {
			if e, err := v.Items.Entry(id); err == nil { // some were ended before they told their name
				require.NotEmpty(t, e.Text(vault.FieldOut))
			}
		}
		attic := w.device(records.NewID())
		joined := w.join(attic, v)
		for id := range saved {
			require.True(t, holds(joined, id)())
		}
		require.NoError(t, errors.Join(attic.Close(), d.Close()))
	}
	t.Logf("%d kills, %d acknowledged saves, %d devices shut out", kills, len(saved), len(out))
}

// crashUnlocks sets authenticators up, changes their rule, the master password and back, and ends them, over and over.
func crashUnlocks(ctx context.Context, v *app.Vault) error {
	other := secret.New(master + " once more")
	for {
		u := app.PlatformUnlock{ID: thumbID, Credential: []byte("{}"), Salt: make([]byte, 32)}
		if err := v.Authenticators.Add(ctx, secret.New(master), u, thumb); err != nil {
			return err
		}
		fmt.Println("set up")
		err := errors.Join(
			v.Authenticators.SetMasterRule(ctx, 1+mrand.IntN(90), true),
			v.Account.ChangeMaster(ctx, secret.New(master), other, other),
			v.Account.ChangeMaster(ctx, other, secret.New(master), secret.New(master)),
			v.Authenticators.End(ctx, thumbID),
		)
		if err != nil {
			return err
		}
		fmt.Println("ended")
	}
}

// A process is killed at random moments of setting up, changing and ending an authenticator, and of changing the
// master password beside it: a master password opens the vault, and so does the authenticator where it is set up.
func TestUnlocksKilledAtAnyMoment(t *testing.T) {
	t.Parallel()
	kills := killsOr(t, 12)
	dir := t.TempDir()
	folder, err := store.In(filepath.Join(dir, "unlocking"))
	require.NoError(t, err)
	ports := app.Ports{Stores: folder, Rand: rand.Reader, Now: time.Now, Platform: "test"}
	d := app.New(ports)
	v, err := d.Create(
		t.Context(), app.NewVault{Email: email, Password: secret.New(master), Repeat: secret.New(master)},
	)
	require.NoError(t, err)
	kept, id := records.NewID(), v.Profile().ID
	require.NoError(t, v.Items.Save(t.Context(), kept, login("Kept", "pw")))
	require.NoError(t, d.Close())
	byFinger := 0
	for range kills {
		p := run(t, "unlocking", dir, "", "")
		require.Equal(t, "set up", <-p.lines)
		time.Sleep(time.Duration(mrand.IntN(120)) * time.Millisecond)
		p.kill()
		d := app.New(ports)
		v, err := d.Unlock(t.Context(), id, secret.New(master))
		if err != nil { // it was killed while the other one was set
			other := secret.New(master + " once more")
			v, err = d.Unlock(t.Context(), id, other)
			require.NoError(t, err)
			require.NoError(t, v.Account.ChangeMaster(t.Context(), other, secret.New(master), secret.New(master)))
		}
		require.True(t, holds(v, kept)())
		unlocks := v.Profile().Unlocks
		if len(unlocks) > 0 {
			byFinger++
			v, err = byThumb(t, d, v)
			require.NoError(t, err)
			require.True(t, holds(v, kept)())
			require.NoError(t, v.Authenticators.End(t.Context(), thumbID))
		}
		require.NoError(t, d.Close())
	}
	t.Logf("%d kills, %d times with an authenticator set up", kills, byFinger)
}

// crashLeavingOut sets a second passphrase up, leaves out, changes the master password and ends all of it, over and
// over.
func crashLeavingOut(ctx context.Context, v *app.Vault, code string) error {
	find := func() (id string) {
		x, err := v.Book.Index()
		if err != nil {
			return ""
		}
		x.Items(func(it *vault.Item) {
			if it.Title == "Hidden" {
				id = it.ID
			}
		})
		return id
	}
	now, other := secret.New(master), secret.New(master+" once more")
	for {
		err := v.Second.Set(ctx, app.Second{
			Master: now, Code: code, Password: secret.New(second), Repeat: secret.New(second),
		})
		if err != nil {
			return err
		}
		fmt.Println("set")
		if _, err := v.Second.LeaveOut(ctx, find()); err != nil {
			return err
		}
		if err := v.Account.ChangeMaster(ctx, now, other, other); err != nil {
			return err
		}
		now, other = other, now
		if err := v.Items.Save(ctx, find(), vault.Changes{vault.FieldNotes: records.NewID()}); err != nil {
			return err
		}
		if err := v.Second.End(ctx, now); err != nil {
			return err
		}
	}
}

// A process is killed at random moments of that: a master password opens the vault and shows what was left out, once.
func TestLeavingOutKilledAtAnyMoment(t *testing.T) {
	t.Parallel()
	kills := killsOr(t, 12)
	dir := t.TempDir()
	folder, err := store.In(filepath.Join(dir, "leaving-out"))
	require.NoError(t, err)
	ports := app.Ports{Stores: folder, Rand: rand.Reader, Now: time.Now, Platform: "test"}
	d := app.New(ports)
	v, err := d.Create(
		t.Context(), app.NewVault{Email: email, Password: secret.New(master), Repeat: secret.New(master)},
	)
	require.NoError(t, err)
	code, id := sheetCode(t, v), v.Profile().ID
	require.NoError(t, v.Items.Save(t.Context(), records.NewID(), login("Hidden", "pw")))
	require.NoError(t, d.Close())
	left := 0
	for range kills {
		p := run(t, "leaving-out", dir, "", code)
		require.Equal(t, "set", <-p.lines)
		time.Sleep(time.Duration(mrand.IntN(150)) * time.Millisecond)
		p.kill()
		d := app.New(ports)
		now := secret.New(master)
		v, err := d.Unlock(t.Context(), id, now)
		if err != nil {
			now = secret.New(master + " once more")
			v, err = d.Unlock(t.Context(), id, now)
			require.NoError(t, err)
		}
		require.NoError(t, v.Ready())
		ids := titled(t, v, "Hidden")
		require.Len(t, ids, 1)
		if v.Cover.Has(ids[0]) {
			left++
			under, err := d.Unlock(t.Context(), id, secret.New(second))
			if err == nil { // it was being ended otherwise
				require.NoError(t, under.Ready())
				require.Empty(t, titled(t, under, "Hidden"))
			}
			v, err = d.Unlock(t.Context(), id, now)
			require.NoError(t, err)
			require.NoError(t, v.Ready())
			require.NoError(t, v.Second.End(t.Context(), now))
		}
		if now.Reveal() != master {
			require.NoError(t, v.Account.ChangeMaster(t.Context(), now, secret.New(master), secret.New(master)))
		}
		require.NoError(t, d.Close())
	}
	t.Logf("%d kills, %d times with something left out", kills, left)
}

// importedRows is how many logins one import of the crash test has.
const importedRows = 2500

// crashImport imports files, one after the other, and takes every second one back.
func crashImport(ctx context.Context, v *app.Vault) error {
	for n := 0; ; n++ {
		var rows bytes.Buffer
		rows.WriteString("url,username,password\n")
		for i := range importedRows {
			fmt.Fprintf(&rows, "https://s%d-%s.example/,u,p%d\n", i, records.NewID()[24:], i)
		}
		i, _, err := v.Imports.Prepare(ctx, []importing.File{{Name: "many.csv", Bytes: rows.Bytes()}})
		if err != nil {
			return err
		}
		if err := i.Start(true); err != nil {
			return err
		}
		fmt.Println("started")
		st := importing.State{Running: true}
		for st.Running {
			time.Sleep(time.Millisecond)
			i.View(func(_ *transfer.Plan, s importing.State) { st = s })
		}
		if st.Err != nil {
			return st.Err
		}
		fmt.Println("done")
		if n%2 == 1 {
			if _, err := v.Imports.Undo(ctx, st.Result.ID); err != nil {
				return err
			}
			fmt.Println("undone")
		}
	}
}

// A process is killed at random moments of importing and of taking imports back: the
// vault is as before or as after, and opens.
func TestImportKilledAtAnyMoment(t *testing.T) {
	t.Parallel()
	kills := killsOr(t, 5)
	dir := t.TempDir()
	open := func() (*app.Device, *app.Vault) {
		f, err := store.In(filepath.Join(dir, "importing"))
		require.NoError(t, err)
		d := app.New(app.Ports{Stores: f, Rand: rand.Reader, Now: time.Now, Platform: "test"})
		cards, err := d.Profiles(t.Context())
		require.NoError(t, err)
		if len(cards) == 0 {
			v, err := d.Create(
				t.Context(),
				app.NewVault{Name: "Maren", Email: email, Password: secret.New(master), Repeat: secret.New(master)},
			)
			require.NoError(t, err)
			return d, v
		}
		v, err := d.Unlock(t.Context(), cards[0].ID, secret.New(master))
		require.NoError(t, err)
		return d, v
	}
	d, _ := open()
	require.NoError(t, d.Close())
	for range kills {
		p := run(t, "importing", dir, "", "")
		for l := range p.lines { // it is at work
			if l == "started" {
				break
			}
		}
		time.Sleep(time.Duration(mrand.IntN(400)) * time.Millisecond)
		p.kill()
		d, v := open()
		x, err := v.Book.Index()
		require.NoError(t, err)
		assert.Zero(t, x.Len("")%importedRows, "a part of an import is there")
		imports, err := v.Imports.History()
		require.NoError(t, err)
		there := 0
		for _, i := range imports {
			if i.Undone == 0 {
				there++
			}
		}
		assert.Equal(t, there*importedRows, x.Len(""), "what is remembered is what is there")
		require.NoError(t, d.Close())
	}
}

// victim is a process that will be killed.
type victim struct {
	cmd   *exec.Cmd
	lines chan string
}

func run(t *testing.T, role, dir, addr, carried string) *victim {
	v := &victim{exec.Command(os.Args[0]), make(chan string, 100000)}
	v.cmd.Env = append(
		os.Environ(),
		"REDLOCKET_CRASH="+role,
		"REDLOCKET_DIR="+dir,
		"REDLOCKET_CLOUD="+addr,
		"REDLOCKET_CARRIED="+carried,
	)
	out, err := v.cmd.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, v.cmd.Start())
	go func() {
		for s := bufio.NewScanner(out); s.Scan(); {
			v.lines <- s.Text()
		}
		close(v.lines)
	}()
	require.Equal(t, "ready", <-v.lines)
	return v
}

// kill ends the process at once and returns what it had said.
func (v *victim) kill() (said []string) {
	_ = v.cmd.Process.Kill()
	for l := range v.lines {
		said = append(said, l)
	}
	_ = v.cmd.Wait()
	return said
}

// Processes are killed at random moments of saving, syncing and joining: the
// saving device, the cloud under it, and a device that joins. Afterwards every
// acknowledged save is there, both stores open, and heads verify on a device
// that has never seen the vault. REDLOCKET_KILLS sets the number of kills.
func TestKilledAtAnyMoment(t *testing.T) {
	t.Parallel()
	kills := killsOr(t, 12)
	dir := t.TempDir()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	addr := l.Addr().String()
	require.NoError(t, l.Close())

	server := run(t, "cloud", dir, addr, "")
	defer func() { server.kill() }()
	folder, err := store.In(filepath.Join(dir, "saving"))
	require.NoError(t, err)
	ports := app.Ports{Stores: folder, Dial: cloudclient.Dial, Rand: rand.Reader, Now: time.Now, Platform: "test"}
	d := app.New(ports)
	v, err := d.Create(
		t.Context(),
		app.NewVault{Email: email, Password: secret.New(master), Repeat: secret.New(master), Cloud: "http://" + addr},
	)
	require.NoError(t, err)
	sheet, err := v.Sheets.Sheet(t.Context())
	require.NoError(t, err)
	carried := strings.Join(sheet.Carried, "")
	require.NoError(t, d.Close())

	acknowledged := map[string]string{}
	total := 0
	for kill := range kills {
		saver := run(t, "saving", dir, addr, "")
		first := <-saver.lines // unlocked and at work
		switch kill % 3 {
		case 1: // the cloud dies in the middle of it, and comes back
			time.Sleep(time.Duration(mrand.IntN(60)) * time.Millisecond)
			server.kill()
			server = run(t, "cloud", dir, addr, "")
		case 2: // a device dies while it joins
			joiner := run(t, "joining", dir, addr, carried)
			time.Sleep(time.Duration(mrand.IntN(350)) * time.Millisecond)
			joiner.kill()
			joined, err := filepath.Glob(filepath.Join(dir, "joining", "*.vault"))
			require.NoError(t, err)
			require.LessOrEqual(t, len(joined), 1)
			require.NoError(t, os.RemoveAll(filepath.Join(dir, "joining")))
		}
		time.Sleep(time.Duration(mrand.IntN(120)) * time.Millisecond)
		for _, line := range append([]string{first}, saver.kill()...) {
			var id, value string
			if n, _ := fmt.Sscanf(line, "saved %s %s", &id, &value); n == 2 {
				acknowledged[id] = value
				total++
			} else {
				t.Fatalf("the device said %q", line)
			}
		}
	}
	t.Logf("%d kills, %d acknowledged saves of %d logins", kills, total, len(acknowledged))

	check := func(v *app.Vault) {
		for id, value := range acknowledged {
			e, err := v.Items.Entry(id)
			require.NoError(t, err, "an acknowledged save is gone")
			got, err := strconv.Atoi(e.Text(vault.FieldPassword))
			require.NoError(t, err)
			want, _ := strconv.Atoi(value)
			require.GreaterOrEqual(t, got, want, "an acknowledged save went back")
		}
	}
	d = app.New(ports)
	defer d.Close()
	cards, err := d.Profiles(t.Context())
	require.NoError(t, err)
	v, err = d.Unlock(t.Context(), cards[0].ID, secret.New(master))
	require.NoError(t, err)
	check(v)
	require.Eventually(
		t,
		func() bool { s := v.Sync.Status(); return s.State == syncing.InStep && s.Waiting == 0 },
		20*time.Second,
		10*time.Millisecond,
	)
	fresh, err := store.In(t.TempDir())
	require.NoError(t, err)
	ports.Stores = fresh
	other := app.New(ports)
	defer other.Close()
	w, err := other.Join(
		t.Context(),
		app.Join{Email: email, Cloud: "http://" + addr, Password: secret.New(master), Carried: carried},
	)
	require.NoError(t, err, "heads verify from the first to the last")
	check(w)
}
