package auditing

import (
	"context"
	"errors"
	"io"
	"io/fs"
	"maps"
	"time"

	"redlocket/app/records"
	"redlocket/core/leaks"
	"redlocket/core/secret"
)

// LeakFiles is where the list of leaked passwords is kept on this device: no secret, and the same for all profiles.
type LeakFiles interface {
	// Filter opens the filter that was made of a list. The error is fs.ErrNotExist if there is none.
	Filter() (file interface {
		io.ReaderAt
		io.Closer
	}, size int64, made time.Time, err error)
	// Keep writes the filter, whole or not at all.
	Keep(write func(io.Writer) error) error
	Remove() error
	// List opens a list that the user has, by its whole path.
	List(path string) (io.ReadSeekCloser, error)
}

// LeakList says what is known of the list of leaked passwords.
type LeakList struct {
	There     bool
	Passwords int64     // in it
	Made      time.Time // when it was taken in
	Running   bool      // one is being taken in
	Done, Of  int64     // passwords of it
	Failed    error     // why one wasn't taken in, or the one that is there can't be read; nil if nothing failed
}

// leakList is the list as it is held while the vault is open.
type leakList struct {
	LeakList
	tried  bool // to open it
	filter *leaks.Filter
	file   io.Closer
}

// ErrNoLeakFiles is returned where there is no file system to keep a list on.
var ErrNoLeakFiles = errors.New("a list can’t be kept here")

// LeakList returns what is known of the list.
func (a *Auditing) LeakList() (l LeakList, err error) {
	if err := a.openList(); err != nil {
		return l, err
	}
	err = a.gate.Read(func(k *known) error { l = k.leaks.LeakList; return nil })
	return l, err
}

// openList opens the filter that is kept, once.
func (a *Auditing) openList() error {
	return a.gate.Write(func(k *known) error {
		if k.leaks.tried || a.cfg.Leaks == nil {
			return nil
		}
		k.leaks.tried = true
		file, size, made, err := a.cfg.Leaks.Filter()
		if errors.Is(err, fs.ErrNotExist) {
			return nil
		}
		if err != nil {
			k.leaks.Failed = err
			return nil
		}
		f, err := leaks.OpenFilter(file, size)
		if err != nil {
			k.leaks.Failed = errors.Join(err, file.Close())
			return nil
		}
		k.leaks.filter, k.leaks.file = f, file
		k.leaks.There, k.leaks.Passwords, k.leaks.Made = true, f.Passwords, made
		return nil
	})
}

// leaked asks the list, and what a service said; nil if there is neither.
func (a *Auditing) leaked() func(secret.Text) (int64, bool) {
	var filter *leaks.Filter
	var made int64
	var said map[string]int64
	_ = a.gate.Read(func(k *known) error { // none once locked
		filter, made, said = k.leaks.filter, k.leaks.Made.UnixMilli(), maps.Clone(k.watch.Leaked)
		return nil
	})
	if filter == nil && len(said) == 0 {
		return nil
	}
	return func(p secret.Text) (int64, bool) {
		h := leaks.HashOf(p)
		if at, ok := said[h.String()]; ok || filter == nil {
			return at, ok
		}
		ok, err := filter.Has(h)
		if err != nil && !errors.Is(err, fs.ErrClosed) { // by a newer list, or a lock
			_ = a.gate.Write(func(k *known) error { k.leaks.Failed = err; return nil })
		}
		return made, ok
	}
}

// TakeList takes a list in, in the background: it is turned into a filter, which then stands in the place of the one
// that was there. path is where it is on this computer.
func (a *Auditing) TakeList(path string) error {
	if a.cfg.Leaks == nil {
		return records.BadInput("list", ErrNoLeakFiles)
	}
	list, err := a.cfg.Leaks.List(path)
	if err != nil {
		return records.BadInput("list", err)
	}
	begun := false
	err = a.gate.Write(func(k *known) error {
		if k.leaks.Running {
			return nil
		}
		begun = true
		k.leaks.Running, k.leaks.Done, k.leaks.Of, k.leaks.Failed = true, 0, 0, nil
		a.work.Go(func() {
			err := a.takeList(a.ctx, list)
			a.listTaken(errors.Join(err, list.Close()))
		})
		return nil
	})
	if !begun {
		return errors.Join(err, list.Close())
	}
	return err
}

func (a *Auditing) takeList(ctx context.Context, list io.ReadSeeker) error {
	return a.cfg.Leaks.Keep(func(w io.Writer) error {
		_, err := leaks.Build(ctx, list, w, func(done, of int64) {
			_ = a.gate.Write(func(k *known) error { k.leaks.Done, k.leaks.Of = done, of; return nil })
		})
		return err
	})
}

// listTaken has the list that was taken in looked at from here on.
func (a *Auditing) listTaken(failed error) {
	_ = a.gate.Write(func(k *known) error { // once locked, the next opening reads it
		k.leaks.Running, k.leaks.Done, k.leaks.Of = false, 0, 0
		if failed != nil {
			k.leaks.Failed = failed
			return nil
		}
		k.closeList()
		return nil
	})
	if a.cfg.Changed != nil {
		a.cfg.Changed()
	}
}

// closeList lets go of the filter; the next question opens the one that is kept then.
func (k *known) closeList() {
	if k.leaks.file != nil {
		_ = k.leaks.file.Close() // it was only read
	}
	k.leaks = leakList{LeakList: LeakList{Running: k.leaks.Running, Done: k.leaks.Done, Of: k.leaks.Of}}
	k.survey, k.at = nil, -1
}

// DropList removes the list from this device.
func (a *Auditing) DropList() error {
	if a.cfg.Leaks == nil {
		return nil
	}
	err := a.gate.Write(func(k *known) error { k.closeList(); return nil })
	if err != nil {
		return err
	}
	if err := a.cfg.Leaks.Remove(); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return nil
}
