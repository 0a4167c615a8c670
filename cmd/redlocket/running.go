package main

import (
	"context"
	"encoding/json"
	"errors"
	"io/fs"
	"net/http"
	"os"
	"path/filepath"
	"runtime"
	"time"

	"github.com/spf13/cobra"

	"redlocket/app/outside"
	"redlocket/install"
)

// defaultPort is that of the device app.
const defaultPort = 7301

// flags are those that say which device app is meant.
func (o *deviceOptions) flags(cmd *cobra.Command) {
	cmd.Flags().StringVar(&o.dir, "data", "", "folder that keeps the profiles (default: your own)")
	cmd.Flags().IntVar(&o.port, "port", defaultPort, "port of the device app, on this computer only")
}

// thisHost is this computer, as installing sees it.
func thisHost() (install.Host, error) {
	home, err := os.UserHomeDir()
	if err != nil {
		return install.Host{}, err
	}
	h := install.Host{OS: runtime.GOOS, Home: home, Getenv: os.Getenv}
	if at := os.Getenv("XDG_RUNTIME_DIR"); at != "" {
		i, err := os.Stat(filepath.Join(at, "systemd"))
		h.Systemd = err == nil && i.IsDir()
	}
	return h, nil
}

// ownFolder takes the user's own data folder where none was named. What an earlier version kept elsewhere is moved
// there.
func (o *deviceOptions) ownFolder() error {
	if o.dir != "" {
		return nil
	}
	h, err := thisHost()
	if err != nil {
		return errors.Join(errors.New("failed to find your data folder; name one with --data"), err)
	}
	o.dir = moved(h.FormerFolder(), h.DataFolder())
	return nil
}

// moved returns the folder to use: to, where from is moved to if it is there and to isn't; from, if that can't be done.
func moved(from, to string) string {
	if _, err := os.Stat(to); err == nil || from == "" || from == to {
		return to
	}
	if _, err := os.Stat(from); err != nil {
		return to
	}
	release, err := holdFolder(from)
	if err != nil { // an earlier version is running
		return from
	}
	release() // Windows moves no folder with an open file
	if os.MkdirAll(filepath.Dir(to), 0o700) != nil || os.Rename(from, to) != nil {
		return from
	}
	return to
}

// running says where a device app is, for whoever starts it a second time.
type running struct {
	URL string `json:"url"`
	PID int    `json:"pid"`
}

func runningFile(dir string) string { return filepath.Join(dir, "running.json") }

// noteRunning notes where this one is; done takes that away.
func noteRunning(dir, url string) (done func(), err error) {
	b, err := json.Marshal(running{url, os.Getpid()})
	if err != nil {
		return nil, err
	}
	file := runningFile(dir)
	return func() { _ = os.Remove(file) }, os.WriteFile(file, b, 0o600)
}

func readRunning(dir string) (at running, err error) {
	b, err := os.ReadFile(runningFile(dir))
	if err != nil {
		return at, err
	}
	return at, json.Unmarshal(b, &at)
}

// runningAt returns the device app that works on a data folder, if it answers. The folder is the user's own: nobody
// else can have noted an address in it.
func runningAt(ctx context.Context, dir string) (at running, ok bool) {
	at, err := readRunning(dir)
	if err != nil {
		return at, false
	}
	const wait = 2 * time.Second
	ctx, cancel := context.WithTimeout(ctx, wait)
	defer cancel()
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, at.URL+"/front", nil)
	if err != nil {
		return at, false
	}
	resp, err := outside.Transport(wait).RoundTrip(req)
	if err != nil {
		return at, false
	}
	return at, resp.Body.Close() == nil
}

// end has a device app end, and waits until it did.
func (r running) end(dir string) error {
	p, err := os.FindProcess(r.PID)
	if err != nil {
		return err
	}
	stop := p.Signal
	if runtime.GOOS == "windows" { // which has no such signal; an open vault survives its program's end
		stop = func(os.Signal) error { return p.Kill() }
	}
	if err := stop(os.Interrupt); err != nil {
		return err
	}
	for range 100 {
		now, err := readRunning(dir)
		if errors.Is(err, fs.ErrNotExist) || err == nil && now.PID != r.PID { // another one began meanwhile
			return nil
		}
		time.Sleep(100 * time.Millisecond)
	}
	return errors.New("it doesn’t end")
}
