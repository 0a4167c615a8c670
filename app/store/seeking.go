package store

import (
	"context"
	"errors"
	"io/fs"
	"os"
	"path/filepath"

	"redlocket/app"
)

// Seeking keeps what asks for help on this computer, beside its profiles. It implements [app.Keeper].
func (f *Folder) Seeking() app.Keeper { return seeking(filepath.Join(f.dir, "asking.json")) }

type seeking string // the file

func (s seeking) Load(context.Context) ([]byte, error) {
	b, err := os.ReadFile(string(s))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	return b, err
}

func (s seeking) Keep(_ context.Context, b []byte) (err error) {
	if b == nil {
		if err := os.Remove(string(s)); !errors.Is(err, fs.ErrNotExist) {
			return err
		}
		return nil
	}
	f, err := os.CreateTemp(filepath.Dir(string(s)), ".asking-*") // only its owner may read it
	if err != nil {
		return err
	}
	defer func() {
		if err != nil {
			_ = f.Close()
			_ = os.Remove(f.Name())
		}
	}()
	if _, err = f.Write(b); err == nil {
		err = errors.Join(f.Sync(), f.Close())
	}
	if err == nil {
		err = os.Rename(f.Name(), string(s))
	}
	return err
}
