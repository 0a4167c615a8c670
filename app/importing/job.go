package importing

import (
	"context"
	"errors"
	"slices"
	"sync"
	"sync/atomic"

	"redlocket/app/records"
	"redlocket/core/transfer"
)

// Job is one import: files that were read, the plan of what they would do, and how far that
// is. It is in memory only, and goes when the vault is locked.
type Job struct {
	imports *Imports

	stop atomic.Pointer[context.CancelFunc] // of the run under way; apart, so that locking never waits for a plan

	mu      sync.Mutex // guards all below
	files   []File
	sources []transfer.Source // of the files, as they were read
	plan    *transfer.Plan
	at      int64 // the book's revision that the plan was made against
	state   State
}

// File is a file as it came.
type File struct {
	Name  string
	Bytes []byte
	// Columns are what the user said about its columns; nil leaves them to guessing.
	Columns []transfer.Meaning
}

// State says how far an import is.
type State struct {
	Running bool
	Step    Step // what is being done
	Done    int
	Of      int
	Result  *Result      // once it is through
	Err     error        // why it isn't
	Unread  []*FileError // files that couldn't be read in the background
}

// Step is what an import is doing.
type Step string

// The steps.
const (
	StepReading  Step = "reading"
	StepPlanning Step = "planning"
	StepJoining  Step = "joining"
	StepSealing  Step = "sealing"
)

// Result is what an import did.
type Result struct {
	ID      string // for [Imports.Undo]; empty if nothing had to be done
	Made    int
	Changed int
	Kept    bool // the originals are kept sealed
}

// add reads files into the job, and plans again. Who looks meanwhile sees how far it is; [Job.Stop] stops it, and
// then the job is as it was.
func (j *Job) add(ctx context.Context, files []File) (bad []*FileError, err error) {
	if err := j.beginAdding(files); err != nil {
		return nil, err
	}
	ctx, cancel := j.stoppable(ctx)
	defer cancel()
	return j.read(ctx, files, false)
}

// stoppable returns a context that [Job.Stop] ends.
func (j *Job) stoppable(ctx context.Context) (context.Context, context.CancelFunc) {
	ctx, cancel := context.WithCancel(ctx)
	j.stop.Store(&cancel)
	return ctx, cancel
}

// read reads files for which the job has been marked as busy, and plans. If nobody waits for it, the
// state says what came of it.
func (j *Job) read(ctx context.Context, files []File, alone bool) (bad []*FileError, err error) {
	columns := j.imports.columns(ctx)
	var taken []File
	var sources []transfer.Source
	for i, f := range files {
		j.progress(StepReading)(i, len(files))
		f.Name = records.CleanFileName(f.Name)
		src, err := f.read(ctx, columns)
		if ctx.Err() != nil {
			break
		}
		if err == nil && len(src.Rows)+len(src.Broken) == 0 {
			err = ErrNoRows
		}
		if err != nil {
			bad = append(bad, &FileError{f.Name, err})
			continue
		}
		taken, sources = append(taken, f), append(sources, src)
	}
	p, at, all, err := j.planWith(ctx, sources)
	j.mu.Lock()
	defer j.mu.Unlock()
	if j.state = (State{}); alone {
		j.state.Unread, j.state.Err = bad, err
	}
	if err != nil {
		return bad, err
	}
	if j.plan != nil {
		p.Adopt(j.plan)
	}
	j.files, j.sources, j.plan, j.at = append(j.files, taken...), all, p, at
	return bad, nil
}

// beginAdding checks whether files may be added, and marks the job as busy with it.
func (j *Job) beginAdding(files []File) error {
	j.mu.Lock()
	defer j.mu.Unlock()
	if j.state.Running {
		return ErrRunning
	}
	if j.state.Result != nil {
		j.files, j.sources, j.plan = nil, nil, nil
	}
	size, list := 0, slices.Concat(j.files, files)
	for _, f := range list {
		size += len(f.Bytes)
	}
	if len(list) > MaxFiles || size > MaxBytes {
		return ErrTooMuch
	}
	j.state = State{Running: true, Step: StepReading}
	return nil
}

// planWith plans for what was read beside what was there.
func (j *Job) planWith(
	ctx context.Context, sources []transfer.Source,
) (p *transfer.Plan, at int64, all []transfer.Source, err error) {
	j.mu.Lock()
	all = slices.Concat(j.sources, sources)
	j.mu.Unlock()
	at = j.imports.cfg.Set.Book.Revision()
	p, err = j.imports.planOf(ctx, all, j.progress(StepPlanning))
	if ctx.Err() != nil {
		err = ErrStopped
	}
	return p, at, all, err
}

// read reads a file with the columns that were chosen for it, or for one like it before.
func (f File) read(ctx context.Context, columns map[string][]transfer.Meaning) (transfer.Source, error) {
	choose := func(t transfer.Table, guess []transfer.Column) []transfer.Column {
		chosen := f.Columns
		if chosen == nil {
			chosen = columns[transfer.Shape(t)]
		}
		if len(chosen) == len(guess) {
			for i, m := range chosen {
				if guess[i].Meaning != m {
					guess[i].Meaning, guess[i].How = m, "chosen"
				}
				guess[i].Unsure = false
			}
		}
		return guess
	}
	return transfer.Read(ctx, f.Name, f.Bytes, choose)
}

// replan plans again and keeps the decisions that still fit. j.mu is held.
func (j *Job) replan(ctx context.Context) error {
	at := j.imports.cfg.Set.Book.Revision()
	p, err := j.imports.planOf(ctx, slices.Clone(j.sources), nil)
	if err != nil {
		return err
	}
	if j.plan != nil {
		p.Adopt(j.plan)
	}
	j.plan, j.at = p, at
	return nil
}

// View calls fn with the plan. It must not be kept.
func (j *Job) View(fn func(*transfer.Plan, State)) {
	j.mu.Lock()
	defer j.mu.Unlock()
	if j.plan == nil {
		j.plan = &transfer.Plan{}
	}
	fn(j.plan, j.state)
}

// The refusals of what was chosen for a plan.
var (
	ErrColumns  = errors.New("these aren’t the columns of this file; please open it again")
	ErrMeaning  = errors.New("choose one of the list")
	ErrDecision = errors.New("that can’t be done with this one")
)

// SetColumns says what the columns of a file are, and plans again. It is remembered
// for files with the same columns.
func (j *Job) SetColumns(ctx context.Context, file int, columns []transfer.Meaning) error {
	j.mu.Lock()
	defer j.mu.Unlock()
	if file < 0 || file >= len(j.files) || j.state.Running {
		return ErrNoImport
	}
	src := j.plan.Sources[file]
	if src.Table == nil || len(columns) != len(src.Column) {
		return records.BadInput("columns", ErrColumns)
	}
	for _, m := range columns {
		if !m.Known() {
			return records.BadInput("columns", ErrMeaning)
		}
	}
	if err := j.imports.keepColumns(ctx, *src.Table, columns); err != nil {
		return err
	}
	j.files[file].Columns = columns
	src, err := j.files[file].read(ctx, nil)
	if err != nil {
		return &FileError{j.files[file].Name, err}
	}
	j.sources[file] = src
	return j.replan(ctx)
}

// Decide says what is to happen with a step, or with a whole group.
func (j *Job) Decide(key string, g transfer.Group, d transfer.Decision, pick int) error {
	j.mu.Lock()
	defer j.mu.Unlock()
	if j.plan == nil || j.state.Running {
		return ErrNoImport
	}
	if key == "" {
		j.plan.Decide(g, d)
		return nil
	}
	n := slices.IndexFunc(j.plan.Steps, func(s transfer.Step) bool { return s.Key == key })
	if !j.plan.DecideOne(n, d, pick) {
		return records.BadInput("decision", ErrDecision)
	}
	return nil
}

// Stop stops a run under way; nothing of it is written then. It waits for nothing.
func (j *Job) Stop() {
	if stop := j.stop.Load(); stop != nil {
		(*stop)()
	}
}

// Start carries the plan out in the background; the state says how far it is. keep has
// the originals kept, sealed, for a while.
func (j *Job) Start(keep bool) error {
	j.mu.Lock()
	defer j.mu.Unlock()
	if j.state.Running {
		return ErrRunning
	}
	if j.plan == nil || len(j.files) == 0 {
		return ErrNoImport
	}
	ctx, cancel := context.WithCancel(context.Background())
	j.stop.Store(&cancel)
	j.state = State{Running: true}
	plan, at, files := j.plan, j.at, j.files
	go func() {
		defer cancel()
		r, err := j.run(ctx, plan, at, files, keep)
		j.ended(r, err)
		j.imports.cfg.Changed()
	}()
	return nil
}

// run carries the plan out, against what the vault holds now.
func (j *Job) run(ctx context.Context, plan *transfer.Plan, at int64, files []File, keep bool) (Result, error) {
	r, err := j.imports.apply(ctx, plan, at, j.progress)
	if err != nil || r.ID == "" || !keep {
		return r, err
	}
	r.Kept = j.imports.keepOriginals(ctx, r.ID, files) == nil
	return r, nil
}

func (j *Job) ended(r Result, err error) {
	j.mu.Lock()
	defer j.mu.Unlock()
	j.state = State{Err: err}
	if err == nil {
		j.state.Result = &r
		j.files, j.sources = nil, nil
	}
}

func (j *Job) progress(step Step) func(done, of int) {
	return func(done, of int) {
		j.mu.Lock()
		defer j.mu.Unlock()
		j.state.Step, j.state.Done, j.state.Of = step, done, of
	}
}
