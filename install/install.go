// Package install has the program start with the user's session and stand in their menu, and takes that back. Nothing
// of it needs an administrator, and nothing of it is outside the user's own folders:
//
//   - Linux: a systemd user unit, or where there is none an autostart entry; a menu entry with its icon (both of
//     freedesktop.org: Desktop Entry Specification 1.5, Desktop Application Autostart Specification 0.5)
//   - macOS: a launchd agent, and an application that opens the page
//   - Windows: a value under the registry's key Run, and a shortcut in the start menu
//
// What is written is made by [Plan], which touches nothing and can be compared for any system.
package install

import (
	"bytes"
	_ "embed"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"strings"
)

// Name is what everything is called.
const Name = "redlocket"

// label is what launchd calls the agent.
const label = "localhost.redlocket"

//go:embed redlocket.png
var icon []byte

// Host is the user's system, as installing sees it.
type Host struct {
	OS      string              // as runtime.GOOS has it: linux, darwin or windows
	Home    string              // the user's own folder
	Getenv  func(string) string // XDG_CONFIG_HOME, XDG_DATA_HOME, APPDATA and LOCALAPPDATA are asked for
	Systemd bool                // on Linux: the user's session has a systemd of its own
}

// File is one that is written. Its path is in the manner of the host.
type File struct {
	Path string
	Text []byte
	Mode fs.FileMode
}

// Step is a command of the system.
type Step struct {
	Command []string
	// Try is set for what may fail without harm, like ending what doesn't run.
	Try bool
}

// Plan is what installing does, in this order, and what takes it back.
type Plan struct {
	Program string // where the program is to be; a copy is made if it isn't there
	Copy    bool
	Files   []File
	Start   []Step // after the files are written
	End     []Step // before they are removed
	// Check is a command that succeeds where the program starts with the session; empty where the files tell.
	Check []string
}

// ErrSystem is returned for a system that isn't known.
var ErrSystem = errors.New("on this system Red Locket can’t set itself up; " +
	"have your session start it with --no-browser")

// New plans to have program start with the user's session. args are passed to it.
func New(h Host, program string, args []string) (Plan, error) {
	p := Plan{Program: program}
	if !h.stands(program) {
		p.Program, p.Copy = h.ownProgram(), true
	}
	switch h.OS {
	case "linux":
		h.linux(&p, args)
	case "darwin":
		h.darwin(&p, args)
	case "windows":
		h.windows(&p, args)
	default:
		return p, ErrSystem
	}
	return p, nil
}

// join puts a path together in the manner of the host.
func (h Host) join(parts ...string) string {
	if h.OS == "windows" {
		return strings.Join(parts, `\`)
	}
	return path.Join(parts...)
}

// env is a variable, or what stands for it where it isn't set or no whole path.
func (h Host) env(name string, other ...string) string {
	if v := h.Getenv(name); strings.HasPrefix(v, "/") || h.OS == "windows" && v != "" {
		return v
	}
	return h.join(append([]string{h.Home}, other...)...)
}

func (h Host) config() string { return h.env("XDG_CONFIG_HOME", ".config") }
func (h Host) data() string   { return h.env("XDG_DATA_HOME", ".local", "share") }
func (h Host) local() string  { return h.env("LOCALAPPDATA", "AppData", "Local") }

// DataFolder is where the user's vaults are.
func (h Host) DataFolder() string {
	switch h.OS {
	case "darwin":
		return h.join(h.Home, "Library", "Application Support", Name)
	case "windows":
		return h.join(h.local(), Name)
	default:
		return h.join(h.data(), Name)
	}
}

// FormerFolder is where versions before 0.3 had them; empty where that is the same.
func (h Host) FormerFolder() string {
	switch h.OS {
	case "darwin":
		return ""
	case "windows":
		return h.join(h.env("APPDATA", "AppData", "Roaming"), Name)
	default:
		return h.join(h.config(), Name)
	}
}

// bundle is the inside of the application that stands in the menu of macOS.
func (h Host) bundle() string { return h.join(h.Home, "Applications", "Red Locket.app", "Contents") }

// stands reports whether a program is where it stays: put there by a package, or by an installation before.
func (h Host) stands(program string) bool {
	for _, place := range []string{
		"/usr/", "/opt/", "/nix/", "/Applications/", `C:\Program Files\`, h.ownProgram(),
	} {
		if strings.HasPrefix(program, place) {
			return true
		}
	}
	return false
}

// ownProgram is where a program is copied to that would not stay.
func (h Host) ownProgram() string {
	switch h.OS {
	case "darwin":
		return h.join(h.bundle(), "MacOS", Name)
	case "windows":
		return h.join(h.local(), "Programs", Name, Name+".exe")
	default:
		return h.join(h.Home, ".local", "bin", Name)
	}
}

// Do copies the program, writes the files and has the system take notice. If something fails, all is as it was, also an
// installation from before. run runs a command of the system.
func (p Plan) Do(from string, run func(command []string) error) (err error) {
	before, err := p.there()
	if err != nil {
		return err
	}
	defer func() {
		if err != nil {
			err = errors.Join(err, p.Undo(run), p.putBack(before, run))
		}
	}()
	if p.Copy {
		if err := copyFile(from, p.Program); err != nil {
			return fmt.Errorf("failed to copy the program to %s: %w", p.Program, err)
		}
	}
	for _, f := range p.Files {
		if err := write(f); err != nil {
			return fmt.Errorf("failed to write %s: %w", f.Path, err)
		}
	}
	return steps(p.Start, run)
}

// there are the files of an installation from before, as they are.
func (p Plan) there() (list []File, err error) {
	files := p.Files
	if p.Copy {
		files = append([]File{{Path: p.Program}}, files...)
	}
	for _, f := range files {
		i, err := os.Stat(f.Path)
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		b, err2 := os.ReadFile(f.Path)
		if err := errors.Join(err, err2); err != nil {
			return nil, fmt.Errorf("failed to read %s: %w", f.Path, err)
		}
		list = append(list, File{f.Path, b, i.Mode().Perm()})
	}
	return list, nil
}

// putBack writes the files of an installation from before, and has the system take notice as far as it does.
func (p Plan) putBack(before []File, run func(command []string) error) error {
	for _, f := range before {
		if err := write(f); err != nil {
			return fmt.Errorf("failed to put %s back: %w", f.Path, err)
		}
	}
	if len(before) > 0 {
		_ = steps(p.Start, run) // what failed before may fail again
	}
	return nil
}

// Undo takes back what Do did; what isn't there any more doesn't matter. Vaults stay where they are.
func (p Plan) Undo(run func(command []string) error) error {
	err := steps(p.End, run)
	files := p.Files
	if p.Copy {
		files = append([]File{{Path: p.Program}}, files...)
	}
	for _, f := range files {
		if e := os.Remove(f.Path); e != nil && !errors.Is(e, fs.ErrNotExist) {
			err = errors.Join(err, fmt.Errorf("failed to remove %s: %w", f.Path, e))
		}
		// An application is a folder: what is left of it goes, if it is empty.
		for at := filepath.Dir(f.Path); strings.Contains(at, ".app"); at = filepath.Dir(at) {
			_ = os.Remove(at)
		}
	}
	return err
}

func steps(list []Step, run func(command []string) error) error {
	for _, s := range list {
		if err := run(s.Command); err != nil && !s.Try {
			return fmt.Errorf("%s: %w", strings.Join(s.Command, " "), err)
		}
	}
	return nil
}

// Missing are the files that aren't there, or aren't as they would be written now.
func (p Plan) Missing() (out []string) {
	for _, f := range p.Files {
		if b, err := os.ReadFile(f.Path); err != nil || !bytes.Equal(b, f.Text) {
			out = append(out, f.Path)
		}
	}
	return out
}

// write puts a file in its place whole.
func write(f File) error {
	if err := os.MkdirAll(filepath.Dir(f.Path), 0o755); err != nil {
		return err
	}
	return replace(f.Path, f.Mode, bytes.NewReader(f.Text))
}

func copyFile(from, to string) error {
	if from == to {
		return nil
	}
	src, err := os.Open(from)
	if err != nil {
		return err
	}
	defer src.Close()
	if err := os.MkdirAll(filepath.Dir(to), 0o755); err != nil {
		return err
	}
	return replace(to, 0o755, src)
}

// replace writes beside the place and then moves there: a program that runs can't be written over.
func replace(to string, mode fs.FileMode, from io.Reader) error {
	tmp, err := os.CreateTemp(filepath.Dir(to), "."+Name+"-*")
	if err != nil {
		return err
	}
	_, err = io.Copy(tmp, from)
	err = errors.Join(err, tmp.Chmod(mode), tmp.Close())
	if err == nil {
		err = os.Rename(tmp.Name(), to)
	}
	if err != nil {
		return errors.Join(err, os.Remove(tmp.Name()))
	}
	return nil
}
