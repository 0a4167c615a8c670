package folder

import (
	"errors"
	"io"
	"os"
	"path/filepath"
	"time"
)

// LeakFiles keeps the filter of leaked passwords in a file of the device's own folder, as package app's port.
type LeakFiles struct{ Path string }

// Filter opens the filter. The error is [fs.ErrNotExist] if there is none.
func (l LeakFiles) Filter() (file interface {
	io.ReaderAt
	io.Closer
}, size int64, made time.Time, err error) {
	f, err := os.Open(l.Path)
	if err != nil {
		return nil, 0, made, err
	}
	st, err := f.Stat()
	if err != nil {
		return nil, 0, made, errors.Join(err, f.Close())
	}
	return f, st.Size(), st.ModTime(), nil
}

// Keep writes the filter, whole or not at all.
func (l LeakFiles) Keep(write func(io.Writer) error) error {
	path, err := filepath.Abs(l.Path)
	if err != nil {
		return err
	}
	return Folders{}.Put(filepath.Dir(path), filepath.Base(path), write)
}

// Remove removes the filter.
func (l LeakFiles) Remove() error { return os.Remove(l.Path) }

// List opens a list that the user has, by its whole path.
func (l LeakFiles) List(path string) (io.ReadSeekCloser, error) {
	if !filepath.IsAbs(path) {
		return nil, errors.New("the file must be written with its whole path")
	}
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	if st, err := f.Stat(); err != nil || !st.Mode().IsRegular() {
		return nil, errors.Join(errors.New("this is no file"), err, f.Close())
	}
	return f, nil
}
