package records

import (
	"slices"

	"redlocket/core/vault"
)

// A record has room for so much. What an entry's past grows above that stands in entries of its own; whoever reads the
// entry finds it whole.

// whole returns an entry with all of its past.
func (in *content) whole(e vault.Entry) vault.Entry {
	if e.Horizon() == 0 {
		return e
	}
	for _, a := range in.apart(e.ID) {
		e.Past = vault.JoinPast(e.Past, a.Past)
	}
	return e
}

// apart are the entries that hold what another one has no room for.
func (in *content) apart(id string) (list []vault.Entry) {
	for _, h := range in.entries {
		if h.entry.Type == vault.TypePast && h.entry.Text(vault.FieldOf) == id {
			list = append(list, h.entry)
		}
	}
	return list
}

// fitted are entries as they are saved: each fits its record, what it has no room for stands beside it, and what stood
// beside one that is deleted for good goes with it.
func (c *core) fitted(entries map[string]held, list []vault.Entry) ([]vault.Entry, error) {
	in := &content{entries: entries}
	var more []vault.Entry
	out := slices.Clone(list)
	for i, e := range list {
		before := entries[e.ID].entry
		if e.Purged() && before.Horizon() > 0 {
			for _, a := range in.apart(e.ID) {
				gone, err := a.Discard(c.stamp())
				if err != nil {
					return nil, err
				}
				more = append(more, gone)
			}
			continue
		}
		e = e.Normal()
		trimmed, taken := e.Trim()
		out[i] = trimmed
		beside, err := c.beside(trimmed, taken)
		if err != nil {
			return nil, err
		}
		more = append(more, beside...)
	}
	return append(out, more...), nil
}

// beside makes the entries that hold a past for another one.
func (c *core) beside(of vault.Entry, past []vault.Past) (list []vault.Entry, err error) {
	for len(past) > 0 {
		e, err := vault.New(NewID(), vault.TypePast, c.stamp(), vault.Changes{vault.FieldOf: of.ID})
		if err != nil {
			return nil, err
		}
		n := 0
		for n < len(past) && (n == 0 || e.Size() < vault.Roomy/2) {
			e.Past = vault.JoinPast(e.Past, past[n:n+1])
			n++
		}
		list, past = append(list, e), past[n:]
	}
	return list, nil
}

// joined merges two versions of an entry so that the result fits a record. beside are new entries: what of either
// version's past the result has no room for and nobody kept yet or, where the present values of both together are too
// many for one record, our version as an item of its own.
func (c *core) joined(in *content, ours, theirs vault.Entry) (e vault.Entry, beside []vault.Entry, err error) {
	e = vault.Merge(ours, theirs)
	if e.Horizon() == 0 && e.Size() <= vault.Roomy {
		return e, nil, nil
	}
	e, _ = e.Trim()
	if _, err := e.Encode(); err != nil {
		own := ours
		own.ID = NewID()
		return theirs, []vault.Entry{own}, nil
	}
	if e.Purged() {
		return e, nil, nil
	}
	lost := vault.Lost(e, vault.JoinedPast(ours, theirs))
	for _, a := range in.apart(e.ID) {
		lost = vault.Lost(a, lost)
	}
	beside, err = c.beside(e, lost)
	return e, beside, err
}
