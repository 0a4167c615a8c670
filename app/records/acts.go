package records

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"redlocket/app/reauth"
	"redlocket/core/vault"
)

// Acts changes several items at once, and takes acts back.
type Acts struct{ core *core }

// step is what an act did to one entry.
type step struct{ before, after vault.Entry }

// act is something that was done here, and can be undone for as long as the set is open.
type act struct {
	id    string
	steps []step
}

// maxActs is how many acts can be undone. One over 10,000 items holds both of
// their versions, which share all but what was changed.
const maxActs = 30

// remember notes an act, and returns its id.
func (in *content) remember(steps []step) string {
	if len(steps) == 0 {
		return ""
	}
	a := act{NewID(), steps}
	in.acts = append(in.acts, a)
	if len(in.acts) > maxActs {
		in.acts = slices.Delete(in.acts, 0, 1)
	}
	return a.id
}

// Done says what an act over several items did.
type Done struct {
	Count int
	Undo  string // for [Acts.Undo]; empty if nothing was done
}

// Last names the latest act, for [Acts.Undo]; empty if there is none.
func (a *Acts) Last() (id string) {
	_ = a.core.gate.Read(func(in *content) error { // none once locked
		if len(in.acts) > 0 {
			id = in.acts[len(in.acts)-1].id
		}
		return nil
	})
	return id
}

// each changes several items at once: one commit, one act to undo. Ids that
// aren't there any more are passed over.
func (a *Acts) each(
	ctx context.Context, ids []string, fn func(vault.Entry, vault.Stamp) (vault.Entry, error),
) (done Done, err error) {
	return a.eachAnd(ctx, ids, fn, func(*content) error { return nil })
}

// eachAnd is each with something that is done besides.
func (a *Acts) eachAnd(
	ctx context.Context, ids []string, fn func(vault.Entry, vault.Stamp) (vault.Entry, error),
	and func(*content) error,
) (done Done, err error) {
	err = a.core.write(func(in *content) error {
		var steps []step
		var list []vault.Entry
		seen := make(map[string]bool, len(ids))
		for _, id := range ids {
			h, ok := in.find(id)
			if !ok || !h.entry.IsItem() || seen[id] {
				continue
			}
			seen[id] = true
			e, err := fn(h.entry, a.core.stamp())
			if err != nil {
				return fmt.Errorf("failed to change “%s”: %w", h.entry.Text(vault.FieldTitle), err)
			}
			if e.Equal(h.entry) {
				continue
			}
			steps, list = append(steps, step{h.entry, e}), append(list, e)
		}
		if len(list) == 0 {
			return nil
		}
		if err := a.core.save(ctx, in, list); err != nil {
			return err
		}
		done = Done{len(list), in.remember(steps)}
		return and(in)
	})
	return done, err
}

// Archive puts items into the archive.
func (a *Acts) Archive(ctx context.Context, ids ...string) (Done, error) {
	return a.each(ctx, ids, func(e vault.Entry, by vault.Stamp) (vault.Entry, error) {
		if e.Archived() {
			return e, nil
		}
		return e.Archive(by)
	})
}

// Restore brings archived items back into the book.
func (a *Acts) Restore(ctx context.Context, ids ...string) (Done, error) {
	return a.each(ctx, ids, func(e vault.Entry, by vault.Stamp) (vault.Entry, error) { return e.Restore(by) })
}

// maxFolder is the longest name of a folder, in bytes.
const maxFolder = 240

// Move puts items into a folder; an empty name takes them out of theirs.
func (a *Acts) Move(ctx context.Context, folder string, ids ...string) (Done, error) {
	folder = vault.CleanFolder(folder)
	if len(folder) > maxFolder {
		return Done{}, BadInput("folder", errors.New("the folder’s name is too long"))
	}
	return a.each(ctx, ids, func(e vault.Entry, by vault.Stamp) (vault.Entry, error) {
		return e.With(by, vault.Changes{vault.FieldFolder: folder})
	})
}

// Tag adds tags to items, separated by commas; those that begin with a hyphen are
// taken off.
func (a *Acts) Tag(ctx context.Context, tags string, ids ...string) (Done, error) {
	return a.each(ctx, ids, func(e vault.Entry, by vault.Stamp) (vault.Entry, error) {
		list := slices.Clone(vault.View(e).Tags)
		for _, t := range vault.CleanTags(tags) {
			name, off := strings.CutPrefix(t, "-")
			name = strings.TrimSpace(name)
			has := slices.IndexFunc(list, func(s string) bool { return strings.EqualFold(s, name) })
			switch {
			case off && has >= 0:
				list = slices.Delete(list, has, has+1)
			case !off && has < 0:
				list = append(list, t)
			}
		}
		if list == nil {
			list = []string{}
		}
		return e.With(by, vault.Changes{vault.FieldTags: list})
	})
}

// Pin pins items, or takes the pin off.
func (a *Acts) Pin(ctx context.Context, on bool, ids ...string) (Done, error) {
	return a.each(ctx, ids, func(e vault.Entry, by vault.Stamp) (vault.Entry, error) {
		return e.With(by, vault.Changes{vault.FieldPinned: on})
	})
}

// Purge deletes archived items for good. Until the vault is locked it can be
// undone; after that nobody can. Items that aren't archived are refused. The master password
// is asked for first.
func (a *Acts) Purge(ctx context.Context, ids ...string) (Done, error) {
	if a.core.Guard != nil {
		if err := a.core.Guard.Require(reauth.Purge); err != nil {
			return Done{}, err
		}
	}
	return a.eachAnd(ctx, ids, func(e vault.Entry, by vault.Stamp) (vault.Entry, error) {
		return e.Purge(by)
	}, func(in *content) error { // as where something is left out: see Cover
		return errors.Join(a.core.refresh(ctx, in), a.core.Store.Forget(ctx))
	})
}

// ErrNoAct is returned for an act that can't be undone any more.
var ErrNoAct = errors.New("this can’t be undone any more; each item’s history still has what it was")

// Undone says what undoing did.
type Undone struct {
	Count int
	Kept  []string // titles of items that were edited since, whose edits stay
}

// Undo takes an act back. What was edited since stays as it is.
func (a *Acts) Undo(ctx context.Context, id string) (out Undone, err error) {
	err = a.core.write(func(in *content) error {
		i := slices.IndexFunc(in.acts, func(a act) bool { return a.id == id })
		if i < 0 {
			return ErrNoAct
		}
		var list []vault.Entry
		for _, s := range in.acts[i].steps {
			h, ok := in.find(s.after.ID)
			if !ok {
				continue
			}
			e, kept, err := s.reverse(h.entry, a.core.stamp())
			if err != nil {
				return err
			}
			if kept {
				out.Kept = append(out.Kept, e.Text(vault.FieldTitle))
			}
			list = append(list, e)
		}
		if err := a.core.save(ctx, in, list); err != nil {
			return err
		}
		in.acts = slices.Delete(in.acts, i, i+1)
		out.Count = len(list)
		return nil
	})
	return out, err
}

// reverse takes a step back from what the entry is now. kept says that something of it was
// edited since, and stays.
func (s step) reverse(now vault.Entry, by vault.Stamp) (e vault.Entry, kept bool, err error) {
	if s.before.ID == "" { // it was made by this act
		e, err = now.Archive(by)
		return e, false, err
	}
	e, fields, err := now.Reverse(by, s.before, s.after)
	return e, len(fields) > 0, err
}
