package main

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/dustin/go-humanize"
	"github.com/gofrs/flock"
	"github.com/google/uuid"
	"github.com/jmoiron/sqlx"
	"github.com/spf13/cobra"

	"redlocket/app"
	"redlocket/app/outside"
	"redlocket/core/version"
	"redlocket/wording"
)

// doctor looks at what Red Locket needs on this computer, and says what works and what doesn't. It changes nothing,
// needs no master password, and says nothing secret: what it prints can be shown to somebody who helps.
type doctor struct {
	out    io.Writer
	faults int
}

func doctorCommand() *cobra.Command {
	var o deviceOptions
	cmd := &cobra.Command{
		Use: "doctor", Short: "Says what works and what doesn't, in words, nothing secret", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if err := o.ownFolder(); err != nil {
				return err
			}
			d := &doctor{out: cmd.OutOrStdout()}
			d.look(cmd.Context(), o)
			if d.faults > 0 {
				what := counted(d.faults, "thing that doesn’t work was", "things that don’t work were")
				return errors.New(what + " found")
			}
			fmt.Fprintln(d.out, "Everything works.")
			return nil
		},
	}
	o.flags(cmd)
	return cmd
}

func counted(n int, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprint(n, " ", many)
}

func (d *doctor) good(format string, a ...any) { fmt.Fprintf(d.out, "  works  "+format+"\n", a...) }

func (d *doctor) bad(format string, a ...any) {
	d.faults++
	fmt.Fprintf(d.out, "  FAULT  "+format+"\n", a...)
}

func (d *doctor) look(ctx context.Context, o deviceOptions) {
	d.good("Red Locket %s on %s", version.String(), platform())
	if !d.folder(o.dir) {
		return
	}
	d.running(ctx, o)
	for _, c := range d.vaults(ctx, o.dir) {
		d.cloud(ctx, c)
	}
}

// folder looks at the data folder, and reports whether there is one.
func (d *doctor) folder(dir string) bool {
	st, err := os.Stat(dir)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		d.good("data folder: none yet, it is made when the program starts")
		return false
	case err != nil || !st.IsDir():
		d.bad("data folder: it can't be read")
		return false
	case st.Mode().Perm()&0o077 != 0 && platform() != "Windows":
		d.bad("data folder: other accounts of this computer can look into it; it should be yours alone (mode 700)")
	}
	f, err := os.CreateTemp(dir, "doctor-*")
	if err == nil {
		_, err = f.Write(make([]byte, 1<<20))
		err = errors.Join(err, f.Close(), os.Remove(f.Name()))
	}
	if err != nil {
		d.bad("data folder: %s", wording.Error(err))
	} else {
		d.good("data folder: it can be read and written")
	}
	return true
}

// running looks whether the program runs on the folder, and whether its page answers.
func (d *doctor) running(ctx context.Context, o deviceOptions) {
	lock := flock.New(filepath.Join(o.dir, "in-use.lock"))
	held, err := lock.TryRLock()
	_ = lock.Close()
	runs := err == nil && !held
	address := fmt.Sprintf("http://redlocket.localhost:%d", o.port)
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, address+"/front", nil)
	if err != nil {
		d.bad("page: %v", err)
		return
	}
	const wait = 5 * time.Second
	c := &http.Client{Transport: outside.Transport(wait), Timeout: wait,
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	resp, err := c.Do(req)
	answers := err == nil && strings.Contains(resp.Header.Get("Content-Security-Policy"), "default-src 'none'")
	if err == nil {
		_ = resp.Body.Close()
	}
	switch {
	case runs && answers:
		d.good("page: it answers at %s", address)
	case runs:
		d.bad("page: Red Locket runs, but not at %s; give the port that it was started with (--port)", address)
	case err == nil:
		d.bad("page: something else answers at %s; start Red Locket at another port (--port)", address)
	default:
		d.good("page: Red Locket isn't running, and its port is free")
	}
}

// vaults looks at each vault's file, and returns the clouds that they belong to.
func (d *doctor) vaults(ctx context.Context, dir string) (clouds []string) {
	files, err := filepath.Glob(filepath.Join(dir, "*.vault"))
	if err != nil {
		d.bad("vaults: %v", err)
		return nil
	}
	known := map[string]bool{}
	var all []vaultSeen
	for _, f := range files {
		if uuid.Validate(strings.TrimSuffix(filepath.Base(f), ".vault")) != nil {
			continue
		}
		seen, err := lookAtVault(ctx, f)
		if err != nil {
			d.bad("vaults: one of %d can't be read: %s", len(files), wording.Error(err))
			continue
		}
		all = append(all, seen)
		if seen.Cloud != "" && !known[seen.Cloud] {
			known[seen.Cloud] = true
			clouds = append(clouds, seen.Cloud)
		}
	}
	d.good("vaults: %s", counted(len(all), "file is whole", "files are whole"))
	for i, v := range all {
		of := ""
		if len(all) > 1 {
			of = fmt.Sprintf(" of vault %d of %d", i+1, len(all))
		}
		d.backup(v, of)
		d.browsers(v, of)
	}
	return clouds
}

// vaultSeen is what a vault's profile tells in clear.
type vaultSeen struct {
	Cloud    string            `json:"cloud"`
	BackupAt int64             `json:"backup_at"`
	Browsers []app.BrowserSeen `json:"browsers"`
}

// backup looks when the last one was written.
func (d *doctor) backup(v vaultSeen, of string) {
	switch {
	case v.BackupAt > 0:
		d.good("last backup%s: %s", of, humanize.Time(time.UnixMilli(v.BackupAt)))
	case v.Cloud == "":
		d.bad("last backup%s: none, and it has no cloud: it is lost with this computer", of)
	default:
		d.good("last backup%s: none yet; its cloud has it", of)
	}
}

// browsers looks whether the connected browsers' extensions are of this version.
func (d *doctor) browsers(v vaultSeen, of string) {
	if len(v.Browsers) == 0 {
		d.good("browsers%s: none is connected", of)
		return
	}
	for _, b := range v.Browsers {
		when := humanize.Time(time.UnixMilli(b.At))
		if b.Version == version.Number {
			d.good("a browser%s: connected, last there %s, with the extension of this version", of, when)
		} else {
			d.bad("a browser%s: connected, last there %s, with the extension of version %s: bring both to the same one",
				of, when, b.Version)
		}
	}
}

var errNotWhole = errors.New("its file is damaged: restore a backup, or bring the vault here again from its cloud")

func lookAtVault(ctx context.Context, file string) (v vaultSeen, err error) {
	db, err := sqlx.Open("sqlite", "file:"+file+"?mode=ro&_pragma=busy_timeout(5000)")
	if err != nil {
		return v, err
	}
	defer func() { err = errors.Join(err, db.Close()) }()
	var is string
	if err := db.GetContext(ctx, &is, `PRAGMA quick_check(1)`); err != nil {
		return v, err
	}
	if is != "ok" {
		return v, errNotWhole
	}
	var card string
	if err := db.GetContext(ctx, &card, `SELECT card FROM card`); err != nil {
		return v, err
	}
	return v, json.Unmarshal([]byte(card), &v)
}

// clockGap is how far this computer's clock may be from a cloud's, which refuses what is signed at another time.
const clockGap = 5 * time.Minute

func (d *doctor) cloud(ctx context.Context, address string) {
	base, c, err := outside.Open(address)
	if err != nil {
		d.bad("cloud: %s is no address of one", address)
		return
	}
	const wait = 10 * time.Second
	ctx, cancel := context.WithTimeout(ctx, wait)
	defer cancel()
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, base+"/v1/hello", nil)
	if err != nil {
		d.bad("cloud: %s is no address of one", address)
		return
	}
	resp, err := c.Do(req)
	if err != nil {
		why := "the line broke"
		var op *net.OpError
		var dns *net.DNSError
		switch {
		case errors.As(err, &dns):
			why = "its name isn't known"
		case errors.As(err, &op) && op.Op == "dial":
			why = "nobody answers there"
		case errors.Is(err, context.DeadlineExceeded):
			why = "no answer in time"
		case strings.Contains(err.Error(), "certificate"):
			why = "its certificate doesn't hold"
		}
		d.bad("cloud: %s can't be reached: %s", address, why)
		return
	}
	defer func() { _ = resp.Body.Close() }()
	var hello struct{ Redlocket int }
	if json.NewDecoder(io.LimitReader(resp.Body, 1<<10)).Decode(&hello) != nil || hello.Redlocket == 0 {
		d.bad("cloud: what answers at %s is no cloud of Red Locket", address)
		return
	}
	d.good("cloud: %s answers", address)
	if at, err := http.ParseTime(resp.Header.Get("Date")); err == nil {
		if gap := time.Since(at).Abs(); gap > clockGap {
			d.bad("clock: it is %s away from the cloud's, which takes five minutes at most: set it right",
				gap.Round(time.Minute))
		} else {
			d.good("clock: it agrees with the cloud's")
		}
	}
}
