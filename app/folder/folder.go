// Package folder keeps backups in a folder of the user's choosing: a disk, or one that
// another program carries elsewhere.
package folder

import (
	"bufio"
	"errors"
	"io"
	"os"
	"path/filepath"
	"time"
)

// Folders is the computer's file system, as package app's port for backups.
type Folders struct{}

// What is being written has another name until it is whole. What a program that was ended left of it is removed after
// a day: somebody else may be writing to the same folder.
const (
	writing  = ".writing-"
	leftOver = 24 * time.Hour
)

func removeLeft(dir string) {
	left, _ := filepath.Glob(filepath.Join(dir, writing+"*")) // the pattern is whole
	for _, name := range left {
		if st, err := os.Stat(name); err == nil && time.Since(st.ModTime()) > leftOver {
			_ = os.Remove(name) // the next time otherwise
		}
	}
}

// Put writes a file whole or not at all. The folder must be there and its path whole:
// a backup doesn't make folders where a disk isn't plugged in.
func (Folders) Put(dir, name string, write func(io.Writer) error) (err error) {
	if !filepath.IsAbs(dir) {
		return errors.New("the folder must be written with its whole path")
	}
	removeLeft(dir)
	f, err := os.CreateTemp(dir, writing+"*")
	if err != nil {
		return err
	}
	defer func() {
		if err != nil {
			_ = f.Close()
			_ = os.Remove(f.Name())
		}
	}()
	out := bufio.NewWriter(f)
	if err = write(out); err != nil {
		return err
	}
	if err = errors.Join(out.Flush(), f.Sync(), f.Close()); err != nil {
		return err
	}
	return os.Rename(f.Name(), filepath.Join(dir, name))
}

// Open reads a file of the folder.
func (Folders) Open(dir, name string) (io.ReadCloser, error) {
	return os.Open(filepath.Join(dir, name))
}

// List returns the names of the folder's files.
func (Folders) List(dir string) ([]string, error) {
	entries, err := os.ReadDir(dir)
	var names []string
	for _, e := range entries {
		if e.Type().IsRegular() {
			names = append(names, e.Name())
		}
	}
	return names, err
}

// Remove removes a file of the folder.
func (Folders) Remove(dir, name string) error { return os.Remove(filepath.Join(dir, name)) }
