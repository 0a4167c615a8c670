package app

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"sync"
	"time"

	"redlocket/core/directory"
	"redlocket/core/site"
	"redlocket/core/transfer"
	"redlocket/core/vault"
)

// Importing is an import that is being prepared: files that were read and the plan of
// what they would do. It is in memory only, and goes when the vault is locked.
type Importing struct {
	v *Vault

	mu      sync.Mutex
	files   []ImportFile
	sources []transfer.Source // of the files, as they were read
	plan    *transfer.Plan
	at      int64 // the vault's version that the plan was made against
	state   ImportState
	stop    context.CancelFunc
}

// ImportFile is a file as it came.
type ImportFile struct {
	Name  string
	Bytes []byte
	// Columns are what its user said about its columns; nil leaves them to guessing.
	Columns []transfer.Meaning
}

// ImportState says how far an import is.
type ImportState struct {
	Running bool
	Step    string // what is being done
	Done    int
	Of      int
	Result  *ImportResult // once it is through
	Err     error         // why it isn't
}

// ImportResult is what an import did.
type ImportResult struct {
	ID      string // for [Vault.UndoImport]; empty if nothing had to be done
	Made    int
	Changed int
	Kept    bool // the originals are kept sealed
}

// The limits on what one import takes, and how long the originals are kept.
const (
	MaxImportFiles = 10
	MaxImportBytes = 60 << 20
	KeepsakeFor    = 30 * 24 * time.Hour
)

// Errors of importing.
var (
	ErrNoImport      = errors.New("this import isn’t there any more; please choose the files again")
	ErrImportFiles   = fmt.Errorf("at most %d files of %d MB together can be brought in at once", MaxImportFiles, MaxImportBytes>>20)
	ErrImportRunning = errors.New("this import is under way already")
	ErrImportStopped = errors.New("the import was stopped; nothing was written")
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
func (v *Vault) Prepare(ctx context.Context, files []ImportFile) (i *Importing, bad []*FileError, err error) {
	if err := v.wait(); err != nil {
		return nil, nil, err
	}
	v.importing.CompareAndSwap(nil, &Importing{v: v})
	if i = v.importing.Load(); i == nil {
		return nil, nil, ErrLocked
	}
	i.mu.Lock()
	defer i.mu.Unlock()
	if i.state.Running {
		return nil, nil, ErrImportRunning
	}
	if i.state.Result != nil {
		i.files, i.sources, i.plan, i.state = nil, nil, nil, ImportState{}
	}
	size, list := 0, slices.Concat(i.files, files)
	for _, f := range list {
		size += len(f.Bytes)
	}
	if len(list) > MaxImportFiles || size > MaxImportBytes {
		return i, nil, ErrImportFiles
	}
	shapes := v.shapes(ctx)
	for _, f := range files {
		f.Name = fileName(f.Name)
		src, err := f.read(shapes)
		if err != nil {
			bad = append(bad, &FileError{f.Name, err})
			continue
		}
		if len(src.Rows)+len(src.Broken) == 0 {
			bad = append(bad, &FileError{f.Name, errors.New("there are no rows in it")})
			continue
		}
		i.files, i.sources = append(i.files, f), append(i.sources, src)
	}
	return i, bad, i.replan()
}

// read reads a file with the columns that were chosen for it, or for one like it before.
func (f ImportFile) read(shapes map[string][]transfer.Meaning) (transfer.Source, error) {
	return transfer.Read(f.Name, f.Bytes, func(t transfer.Table, guess []transfer.Column) []transfer.Column {
		chosen := f.Columns
		if chosen == nil {
			chosen = shapes[transfer.Shape(t)]
		}
		if len(chosen) == len(guess) {
			for i, m := range chosen {
				if guess[i].Meaning != m {
					guess[i].Meaning, guess[i].How = m, "chosen"
				}
			}
		}
		return guess
	})
}

// replan plans anew and keeps the decisions that still fit. i.mu is held.
func (i *Importing) replan() error {
	at := i.v.Version()
	p, err := i.v.planOf(slices.Clone(i.sources))
	if err != nil {
		return err
	}
	if i.plan != nil {
		p.Adopt(i.plan)
	}
	i.plan, i.at = p, at
	return nil
}

// planOf plans against what the vault holds now.
func (v *Vault) planOf(sources []transfer.Source) (*transfer.Plan, error) {
	entries, err := v.pick(func(vault.Entry) bool { return true })
	if err != nil {
		return nil, err
	}
	return transfer.NewPlan(entries, sources, v.planOptions()), nil
}

func (v *Vault) planOptions() transfer.Options {
	sites := v.Sites()
	return transfer.Options{By: v.stamp(), Site: func(d string) string { return siteOf(sites, d) }}
}

// siteOf returns the domain that stands for a site of several.
func siteOf(sites *directory.Directory, domain string) string {
	if s, ok := sites.Lookup(domain); ok && len(s.Domains) > 0 {
		return site.Domain("https://" + s.Domains[0])
	}
	return domain
}

// localShapes names what is remembered of the columns of files.
const localShapes = "import columns"

func (v *Vault) shapes(ctx context.Context) map[string][]transfer.Meaning {
	out := map[string][]transfer.Meaning{}
	if b, err := v.local(ctx, localShapes); err == nil && b != nil {
		_ = json.Unmarshal(b, &out)
	}
	return out
}

// Importing returns the import that is being prepared.
func (v *Vault) Importing() (*Importing, error) {
	if i := v.importing.Load(); i != nil {
		return i, nil
	}
	return nil, ErrNoImport
}

// DropImport drops the import that is being prepared, or stops the one under way.
func (v *Vault) DropImport() {
	if i := v.importing.Swap(nil); i != nil {
		i.Stop()
	}
}

// View calls fn with the plan. It must not be kept.
func (i *Importing) View(fn func(*transfer.Plan, ImportState)) {
	i.mu.Lock()
	defer i.mu.Unlock()
	if i.plan == nil {
		i.plan = &transfer.Plan{}
	}
	fn(i.plan, i.state)
}

// SetColumns says what the columns of a file are, and plans anew. It is remembered
// for files with the same columns.
func (i *Importing) SetColumns(ctx context.Context, file int, columns []transfer.Meaning) error {
	i.mu.Lock()
	defer i.mu.Unlock()
	if file < 0 || file >= len(i.files) || i.state.Running {
		return ErrNoImport
	}
	src := i.plan.Sources[file]
	if src.Table == nil || len(columns) != len(src.Column) {
		return badInput("columns", errors.New("these aren’t the columns of this file; please open it again"))
	}
	for _, m := range columns {
		if !m.Known() {
			return badInput("columns", errors.New("choose one of the list"))
		}
	}
	i.files[file].Columns = columns
	shapes := i.v.shapes(ctx)
	if len(shapes) > 200 {
		clear(shapes)
	}
	shapes[transfer.Shape(*src.Table)] = columns
	b, err := json.Marshal(shapes)
	if err == nil {
		err = i.v.setLocal(ctx, i.v.store, localShapes, b)
	}
	if err != nil {
		return err
	}
	if src, err = i.files[file].read(shapes); err != nil {
		return &FileError{i.files[file].Name, err}
	}
	i.sources[file] = src
	return i.replan()
}

// Decide says what is to happen with a step, or with a whole group.
func (i *Importing) Decide(key string, g transfer.Group, d transfer.Decision, pick int) error {
	i.mu.Lock()
	defer i.mu.Unlock()
	if i.plan == nil || i.state.Running {
		return ErrNoImport
	}
	if key == "" {
		i.plan.Decide(g, d)
		return nil
	}
	n := slices.IndexFunc(i.plan.Steps, func(s transfer.Step) bool { return s.Key == key })
	if !i.plan.DecideOne(n, d, pick) {
		return badInput("decision", errors.New("that can’t be done with this one"))
	}
	return nil
}

// Stop stops an import under way; nothing of it is written then.
func (i *Importing) Stop() {
	i.mu.Lock()
	defer i.mu.Unlock()
	if i.stop != nil {
		i.stop()
	}
}

// Start carries the plan out in the background; the state says how far it is. keep has
// the originals kept, sealed, for a while.
func (i *Importing) Start(keep bool) error {
	i.mu.Lock()
	defer i.mu.Unlock()
	if i.state.Running {
		return ErrImportRunning
	}
	if i.plan == nil || len(i.files) == 0 {
		return ErrNoImport
	}
	ctx, cancel := context.WithCancel(context.Background())
	i.stop, i.state = cancel, ImportState{Running: true}
	go func() {
		defer cancel()
		r, err := i.run(ctx, keep)
		i.mu.Lock()
		defer i.mu.Unlock()
		i.state = ImportState{Err: err}
		if err == nil {
			i.state.Result = &r
			i.files, i.sources = nil, nil
		}
		i.v.tell(NoticeStatus)
	}()
	return nil
}

func (i *Importing) progress(step string) func(done, of int) {
	return func(done, of int) {
		i.mu.Lock()
		defer i.mu.Unlock()
		i.state.Step, i.state.Done, i.state.Of = step, done, of
	}
}

// run carries the plan out, against what the vault holds now.
func (i *Importing) run(ctx context.Context, keep bool) (ImportResult, error) {
	i.mu.Lock()
	plan, at, files := i.plan, i.at, i.files
	i.mu.Unlock()
	r, err := i.v.bringIn(ctx, plan, at, i.progress)
	if err != nil || r.ID == "" || !keep {
		return r, err
	}
	r.Kept = i.v.keepOriginals(ctx, r.ID, files) == nil
	return r, nil
}

// bringIn writes what a plan says, in one transaction: all of it or nothing. Where
// something may have been edited since the plan was made, it is made anew.
func (v *Vault) bringIn(ctx context.Context, plan *transfer.Plan, at int64, progress func(string) func(done, of int)) (r ImportResult, err error) {
	var done transfer.Done
	err = v.writeMany(ctx, func(entries map[string]vault.Entry) ([]vault.Entry, error) {
		fresh := plan
		if v.Version() != at {
			fresh = transfer.NewPlan(slices.Collect(maps.Values(entries)), plan.Sources, v.planOptions())
			fresh.Adopt(plan)
		}
		at = 0 // another try is after an edit
		done, err = fresh.Apply(v.stamp(), NewID, progress("joined"))
		return done.Entries, err
	}, progress("sealed"))
	if err != nil {
		if ctx.Err() != nil {
			return r, ErrImportStopped
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

// Imports returns what is remembered of imports, the latest first.
func (v *Vault) Imports() ([]transfer.Import, error) {
	list, err := v.pick(func(e vault.Entry) bool { return e.Type == vault.TypeImport })
	if err != nil {
		return nil, err
	}
	return transfer.Imports(list), nil
}

// UndoImport takes an import back, also one of another day or device. What was edited
// since stays, and is named.
func (v *Vault) UndoImport(ctx context.Context, id string) (transfer.Undone, error) {
	var u transfer.Undone
	err := v.writeMany(ctx, func(entries map[string]vault.Entry) (_ []vault.Entry, err error) {
		u, err = transfer.Undo(id, entries, v.stamp())
		return u.Entries, err
	}, nil)
	return u, err
}

// Originals of an import are kept sealed on this device, under its id.
const localOriginals = "originals"

// Originals are the files of one import.
type Originals struct {
	Import string
	At     int64 // milliseconds since 1970
	Names  []string
	Sizes  []int
}

func (v *Vault) keepOriginals(ctx context.Context, id string, files []ImportFile) error {
	o := Originals{Import: id, At: v.d.p.Now().UnixMilli()}
	for n, f := range files {
		o.Names, o.Sizes = append(o.Names, f.Name), append(o.Sizes, len(f.Bytes))
		if err := v.setLocal(ctx, v.store, fmt.Sprintf("%s %s %d", localOriginals, id, n), f.Bytes); err != nil {
			return err
		}
	}
	list, err := v.originals(ctx)
	if err != nil {
		return err
	}
	return v.setOriginals(ctx, append(list, o))
}

func (v *Vault) setOriginals(ctx context.Context, list []Originals) error {
	b, err := json.Marshal(list)
	if err != nil {
		return err
	}
	return v.setLocal(ctx, v.store, localOriginals, b)
}

func (v *Vault) originals(ctx context.Context) (list []Originals, err error) {
	b, err := v.local(ctx, localOriginals)
	if err != nil || b == nil {
		return nil, err
	}
	return list, json.Unmarshal(b, &list)
}

// Originals returns the files of imports that are kept on this device. Those whose
// time is over are removed.
func (v *Vault) Originals(ctx context.Context) ([]Originals, error) {
	list, err := v.originals(ctx)
	if err != nil {
		return nil, err
	}
	old := v.d.p.Now().Add(-KeepsakeFor).UnixMilli()
	for _, o := range list {
		if o.At < old {
			if err := v.ForgetOriginals(ctx, o.Import); err != nil {
				return nil, err
			}
		}
	}
	return v.originals(ctx)
}

// ForgetOriginals removes the kept files of an import.
func (v *Vault) ForgetOriginals(ctx context.Context, id string) error {
	list, err := v.originals(ctx)
	if err != nil {
		return err
	}
	for _, o := range list {
		if o.Import != id {
			continue
		}
		for n := range o.Names {
			if err := v.store.SetLocal(ctx, fmt.Sprintf("%s %s %d", localOriginals, id, n), nil); err != nil {
				return err
			}
		}
	}
	return v.setOriginals(ctx, slices.DeleteFunc(list, func(o Originals) bool { return o.Import == id }))
}

// Original returns one kept file. The master password is asked for first.
func (v *Vault) Original(ctx context.Context, id string, n int) (name string, b []byte, err error) {
	if err := v.RequireReauth(ReauthExport); err != nil {
		return "", nil, err
	}
	list, err := v.originals(ctx)
	if err != nil {
		return "", nil, err
	}
	for _, o := range list {
		if o.Import == id && n >= 0 && n < len(o.Names) {
			b, err := v.local(ctx, fmt.Sprintf("%s %s %d", localOriginals, id, n))
			return o.Names[n], b, err
		}
	}
	return "", nil, ErrNoImport
}
