package importing

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"redlocket/app/reauth"
)

// OriginalsFor is how long the originals of an import are kept.
const OriginalsFor = 30 * 24 * time.Hour

// Originals of an import are kept sealed on this device, under its id.
const localOriginals = "originals"

func originalName(id string, n int) string { return fmt.Sprintf("%s %s %d", localOriginals, id, n) }

// Originals are the files of one import.
type Originals struct {
	Import string
	At     int64 // milliseconds since 1970
	Names  []string
	Sizes  []int
}

func (s *Imports) keepOriginals(ctx context.Context, id string, files []File) error {
	o := Originals{Import: id, At: s.cfg.Now().UnixMilli()}
	for n, f := range files {
		o.Names, o.Sizes = append(o.Names, f.Name), append(o.Sizes, len(f.Bytes))
		if err := s.cfg.Set.Local.Set(ctx, originalName(id, n), f.Bytes); err != nil {
			return err
		}
	}
	list, err := s.originals(ctx)
	if err != nil {
		return err
	}
	return s.cfg.Set.Local.SetJSON(ctx, localOriginals, append(list, o))
}

func (s *Imports) originals(ctx context.Context) (list []Originals, err error) {
	return list, s.cfg.Set.Local.GetJSON(ctx, localOriginals, &list)
}

// Originals returns the files of imports that are kept on this device. Those whose
// time is over are removed.
func (s *Imports) Originals(ctx context.Context) ([]Originals, error) {
	list, err := s.originals(ctx)
	if err != nil {
		return nil, err
	}
	old := s.cfg.Now().Add(-OriginalsFor).UnixMilli()
	for _, o := range list {
		if o.At < old {
			if err := s.ForgetOriginals(ctx, o.Import); err != nil {
				return nil, err
			}
		}
	}
	return s.originals(ctx)
}

// ForgetOriginals removes the kept files of an import.
func (s *Imports) ForgetOriginals(ctx context.Context, id string) error {
	list, err := s.originals(ctx)
	if err != nil {
		return err
	}
	for _, o := range list {
		if o.Import != id {
			continue
		}
		for n := range o.Names {
			if err := s.cfg.Set.Local.Set(ctx, originalName(id, n), nil); err != nil {
				return err
			}
		}
	}
	rest := slices.DeleteFunc(list, func(o Originals) bool { return o.Import == id })
	return s.cfg.Set.Local.SetJSON(ctx, localOriginals, rest)
}

// ForgetAllOriginals removes all kept files.
func (s *Imports) ForgetAllOriginals(ctx context.Context) error {
	list, err := s.originals(ctx)
	for _, o := range list {
		err = errors.Join(err, s.ForgetOriginals(ctx, o.Import))
	}
	return err
}

// Original returns one kept file. The master password is asked for first.
func (s *Imports) Original(ctx context.Context, id string, n int) (name string, b []byte, err error) {
	if err := s.cfg.Guard.Require(reauth.Export); err != nil {
		return "", nil, err
	}
	list, err := s.originals(ctx)
	if err != nil {
		return "", nil, err
	}
	for _, o := range list {
		if o.Import == id && n >= 0 && n < len(o.Names) {
			b, err := s.cfg.Set.Local.Get(ctx, originalName(id, n))
			return o.Names[n], b, err
		}
	}
	return "", nil, ErrNoImport
}
