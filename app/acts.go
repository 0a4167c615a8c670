package app

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"redlocket/core/vault"
)

// step is what an act did to one entry.
type step struct{ before, after vault.Entry }

// act is something that was done here, and can be undone for as long as the vault
// is open.
type act struct {
	id    string
	steps []step
}

// maxActs is how many acts can be undone. One over 10,000 items holds both of
// their versions, which share all but what was changed.
const maxActs = 30

// remember notes an act. v.mu is held.
func (v *Vault) remember(steps []step) string {
	if len(steps) == 0 {
		return ""
	}
	a := act{NewID(), steps}
	v.acts = append(v.acts, a)
	if len(v.acts) > maxActs {
		v.acts = slices.Delete(v.acts, 0, 1)
	}
	return a.id
}

// Done says what an act over several items did.
type Done struct {
	Count int
	Undo  string // for [Vault.Undo]; empty if nothing was done
}

// LastAct names the latest act, for [Vault.Undo]; empty if there is none.
func (v *Vault) LastAct() string {
	v.mu.RLock()
	defer v.mu.RUnlock()
	if len(v.acts) == 0 {
		return ""
	}
	return v.acts[len(v.acts)-1].id
}

// each changes several items at once: one commit, one act to undo. Ids that
// aren't there any more are passed over.
func (v *Vault) each(ctx context.Context, ids []string, fn func(vault.Entry) (vault.Entry, error)) (Done, error) {
	if err := v.wait(); err != nil {
		return Done{}, err
	}
	v.mu.Lock()
	defer v.mu.Unlock()
	if v.seal == nil {
		return Done{}, ErrLocked
	}
	var steps []step
	var list []vault.Entry
	seen := make(map[string]bool, len(ids))
	for _, id := range ids {
		h, ok := v.entries[id]
		if !ok || !h.entry.IsItem() || seen[id] {
			continue
		}
		seen[id] = true
		e, err := fn(h.entry)
		if err != nil {
			return Done{}, fmt.Errorf("failed to change “%s”: %w", h.entry.Text(vault.FieldTitle), err)
		}
		if same(e, h.entry) {
			continue
		}
		steps, list = append(steps, step{h.entry, e}), append(list, e)
	}
	if len(list) == 0 {
		return Done{}, nil
	}
	if err := v.write(ctx, list); err != nil {
		return Done{}, err
	}
	return Done{len(list), v.remember(steps)}, nil
}

// Archive puts items away.
func (v *Vault) Archive(ctx context.Context, ids ...string) (Done, error) {
	return v.each(ctx, ids, func(e vault.Entry) (vault.Entry, error) {
		if e.Archived() {
			return e, nil
		}
		return e.Archive(v.stamp())
	})
}

// Restore brings archived items back into the book.
func (v *Vault) Restore(ctx context.Context, ids ...string) (Done, error) {
	return v.each(ctx, ids, func(e vault.Entry) (vault.Entry, error) { return e.Restore(v.stamp()) })
}

// Move puts items into a folder; an empty name takes them out of theirs.
func (v *Vault) Move(ctx context.Context, folder string, ids ...string) (Done, error) {
	folder = vault.CleanFolder(folder)
	if len(folder) > maxFolder {
		return Done{}, badInput("folder", errors.New("the folder’s name is too long"))
	}
	return v.each(ctx, ids, func(e vault.Entry) (vault.Entry, error) {
		return e.With(v.stamp(), vault.Changes{vault.FieldFolder: folder})
	})
}

const maxFolder = 240 // bytes

// Tag adds tags to items, parted by commas; those that begin with a hyphen are
// taken off.
func (v *Vault) Tag(ctx context.Context, tags string, ids ...string) (Done, error) {
	return v.each(ctx, ids, func(e vault.Entry) (vault.Entry, error) {
		list := slices.Clone(vault.View(e).Tags)
		for _, t := range vault.CleanTags(tags) {
			name, off := strings.CutPrefix(t, "-")
			has := slices.IndexFunc(list, func(s string) bool { return strings.EqualFold(s, strings.TrimSpace(name)) })
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
		return e.With(v.stamp(), vault.Changes{vault.FieldTags: list})
	})
}

// Pin pins items, or takes the pin off.
func (v *Vault) Pin(ctx context.Context, on bool, ids ...string) (Done, error) {
	return v.each(ctx, ids, func(e vault.Entry) (vault.Entry, error) {
		return e.With(v.stamp(), vault.Changes{vault.FieldPinned: on})
	})
}

// Purge deletes archived items for good. Until the vault is locked it can be
// undone; after that nobody can. Items that aren't archived are refused.
func (v *Vault) Purge(ctx context.Context, ids ...string) (Done, error) {
	if err := v.RequireReauth(ReauthPurge); err != nil {
		return Done{}, err
	}
	return v.each(ctx, ids, func(e vault.Entry) (vault.Entry, error) { return e.Purge(v.stamp()) })
}

// RestoreAt makes an item what it was at a moment, in milliseconds since 1970.
func (v *Vault) RestoreAt(ctx context.Context, id string, ms int64) error {
	return v.existing(ctx, id, func(e vault.Entry) (vault.Entry, error) { return e.RestoreAt(v.stamp(), ms) })
}

// ErrNoAct is returned for an act that can't be undone any more.
var ErrNoAct = errors.New("this can’t be undone any more; each item’s history still has what it was")

// Undone says what undoing did.
type Undone struct {
	Count int
	Kept  []string // titles of items that were edited since, whose edits stay
}

// Undo takes an act back. What was edited since stays as it is.
func (v *Vault) Undo(ctx context.Context, id string) (out Undone, err error) {
	if err := v.wait(); err != nil {
		return out, err
	}
	v.mu.Lock()
	defer v.mu.Unlock()
	if v.seal == nil {
		return out, ErrLocked
	}
	i := slices.IndexFunc(v.acts, func(a act) bool { return a.id == id })
	if i < 0 {
		return out, ErrNoAct
	}
	var list []vault.Entry
	for _, s := range v.acts[i].steps {
		h, ok := v.entries[s.after.ID]
		if !ok {
			continue
		}
		e, kept := h.entry, []vault.Field(nil)
		if s.before.ID == "" { // it was written down: undone, it is put away
			e, err = e.Archive(v.stamp())
		} else {
			e, kept, err = e.Reverse(v.stamp(), s.before, s.after)
		}
		if err != nil {
			return out, err
		}
		if len(kept) > 0 {
			out.Kept = append(out.Kept, e.Text(vault.FieldTitle))
		}
		list = append(list, e)
	}
	if err := v.write(ctx, list); err != nil {
		return out, err
	}
	v.acts = slices.Delete(v.acts, i, i+1)
	out.Count = len(list)
	return out, nil
}
