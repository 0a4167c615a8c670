package importing

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"redlocket/app/gate"
	"redlocket/app/records"
	"redlocket/core/share"
	"redlocket/core/transfer"
	"redlocket/core/vault"
)

// Imports imports files.
type Imports struct {
	cfg  Config
	gate *gate.Gate[current]
}

// current is there while the vault is open.
type current struct {
	job *Job // that is being prepared, or was the last; nil for none
}

// The limits on what one import takes.
const (
	MaxFiles = 10
	MaxBytes = 60 << 20
)

// Errors of importing.
var (
	ErrNoImport = errors.New("this import isn’t there any more; please choose the files again")
	ErrTooMuch  = fmt.Errorf("at most %d files of %d MB together can be imported at once", MaxFiles, MaxBytes>>20)
	ErrRunning  = errors.New("this import is under way already")
	ErrStopped  = errors.New("the import was stopped; nothing was written")
	ErrNoRows   = errors.New("there are no rows in it")
)

// FileError says which file can't be read, and why.
type FileError struct {
	Name string
	Err  error
}

func (e *FileError) Error() string { return e.Name + ": " + e.Err.Error() }
func (e *FileError) Unwrap() error { return e.Err }

// Prepare reads files and plans what bringing them in would do. An import that was
// being prepared takes them up too. Nothing is written. Files that can't be read are in
// bad; the others are taken.
func (s *Imports) Prepare(ctx context.Context, files []File) (job *Job, bad []*FileError, err error) {
	if err := s.cfg.Set.Ready(); err != nil {
		return nil, nil, err
	}
	if job, err = s.job(); err != nil {
		return nil, nil, err
	}
	bad, err = job.add(ctx, files)
	return job, bad, err
}

// PrepareInBackground is Prepare for large files: it returns at once, and the job's state says how far it is, and in
// the end which files couldn't be read.
func (s *Imports) PrepareInBackground(files []File) error {
	if err := s.cfg.Set.Ready(); err != nil {
		return err
	}
	job, err := s.job()
	if err != nil {
		return err
	}
	if err := job.beginAdding(files); err != nil {
		return err
	}
	ctx, cancel := job.stoppable(context.Background())
	go func() {
		defer cancel()
		_, _ = job.read(ctx, files, true) // the state says it
	}()
	return nil
}

// job returns the import that is being prepared, a new one if there is none.
func (s *Imports) job() (job *Job, err error) {
	err = s.gate.Write(func(c *current) error {
		if c.job == nil {
			c.job = &Job{imports: s}
		}
		job = c.job
		return nil
	})
	return job, err
}

// Current returns the import that is being prepared, or was the last.
func (s *Imports) Current() (job *Job, err error) {
	err = s.gate.Read(func(c *current) error {
		if job = c.job; job == nil {
			return ErrNoImport
		}
		return nil
	})
	return job, err
}

// Drop drops the import that is being prepared, or stops the one under way.
func (s *Imports) Drop() error {
	var job *Job
	err := s.gate.Write(func(c *current) error { job, c.job = c.job, nil; return nil })
	if job != nil {
		job.Stop()
	}
	return err
}

// planOf plans against what the vault holds now.
func (s *Imports) planOf(
	ctx context.Context, sources []transfer.Source, progress func(done, of int),
) (*transfer.Plan, error) {
	entries, err := s.cfg.Set.Book.Entries(func(vault.Entry) bool { return true })
	if err != nil {
		return nil, err
	}
	entries = slices.DeleteFunc(entries, func(e vault.Entry) bool {
		return !s.cfg.Set.Items.Right(e).Includes(share.Change)
	})
	o := s.planOptions()
	o.Progress = progress
	return transfer.NewPlan(ctx, entries, sources, o)
}

func (s *Imports) planOptions() transfer.Options {
	sites := s.cfg.Set.Sites.Directory()
	return transfer.Options{
		By:   s.cfg.Set.Items.Stamp(),
		Site: sites.Of,
	}
}

// localColumns names what is remembered of the columns of files.
const localColumns = "import columns"

// mostColumns bounds how many files' columns are remembered.
const mostColumns = 200

func (s *Imports) columns(ctx context.Context) map[string][]transfer.Meaning {
	out := map[string][]transfer.Meaning{}
	if s.cfg.Set.Local.GetJSON(ctx, localColumns, &out) != nil {
		return map[string][]transfer.Meaning{} // they are guessed then
	}
	return out
}

func (s *Imports) keepColumns(ctx context.Context, t transfer.Table, columns []transfer.Meaning) error {
	all := s.columns(ctx)
	if len(all) > mostColumns {
		clear(all)
	}
	all[transfer.Shape(t)] = columns
	return s.cfg.Set.Local.SetJSON(ctx, localColumns, all)
}

// apply writes what a plan says, in one transaction: all of it or nothing. Where
// something may have been edited since the plan was made, it is made again.
func (s *Imports) apply(
	ctx context.Context, plan *transfer.Plan, at int64, progress func(Step) func(done, of int),
) (r Result, err error) {
	var done transfer.Done
	set := s.cfg.Set
	sealed := map[transfer.TextFile]vault.File{} // another try takes the same
	seal := func(t transfer.TextFile) (vault.File, error) {
		if f, ok := sealed[t]; ok {
			return f, nil
		}
		f, err := set.Files.Seal(ctx, t.Name, strings.NewReader(t.Text.Reveal()))
		if err == nil {
			sealed[t] = f
		}
		return f, err
	}
	defer func() {
		for _, f := range sealed {
			set.Files.Restored(ctx, f.ID, err != nil)
		}
	}()
	err = set.Items.SaveMany(ctx, func(entries map[string]vault.Entry) ([]vault.Entry, error) {
		fresh := plan
		if set.Book.Revision() != at {
			fresh, err = transfer.NewPlan(ctx, slices.Collect(maps.Values(entries)), plan.Sources, s.planOptions())
			if err != nil {
				return nil, err
			}
			fresh.Adopt(plan)
		}
		at = -1 // another try is after an edit
		done, err = fresh.Apply(ctx, transfer.Writer{
			By: set.Items.Stamp(), NewID: records.NewID, Seal: seal, Progress: progress(StepJoining),
		})
		return done.Entries, err
	}, progress(StepSealing))
	if err != nil {
		if ctx.Err() != nil {
			return r, ErrStopped
		}
		return r, err
	}
	for _, e := range done.Entries {
		if e.Type == vault.TypeImport {
			r.ID = e.ID
			break
		}
	}
	r.Made, r.Changed = done.Made, done.Changed
	return r, nil
}

// History returns what is remembered of imports, the latest first.
func (s *Imports) History() ([]transfer.Import, error) {
	list, err := s.cfg.Set.Book.Entries(func(e vault.Entry) bool { return e.Type == vault.TypeImport })
	if err != nil {
		return nil, err
	}
	return transfer.Imports(list), nil
}

// Undo takes an import back, also one of another day or device. What was edited since
// stays, and is named.
func (s *Imports) Undo(ctx context.Context, id string) (transfer.Undone, error) {
	var u transfer.Undone
	plan := func(entries map[string]vault.Entry) (_ []vault.Entry, err error) {
		u, err = transfer.Undo(id, entries, s.cfg.Set.Items.Stamp())
		return u.Entries, err
	}
	err := s.cfg.Set.Items.SaveMany(ctx, plan, nil)
	return u, err
}
