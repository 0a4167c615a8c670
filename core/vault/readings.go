package vault

// Readings keeps what was read of entries, for as long as they stay the same version. Its zero value is ready. It isn't
// safe for concurrent use.
type Readings[T any] struct {
	of    map[string]*reading[T] // by id
	round int
}

type reading[T any] struct {
	entry Entry
	value T
	round int // in which it was there last
}

// Read returns what read makes of each entry, in their order; read is called only for those that weren't there the last
// time, or were another version. What isn't there any more is forgotten.
func (r *Readings[T]) Read(entries []Entry, read func(Entry) T) []T {
	if r.of == nil {
		r.of = make(map[string]*reading[T], len(entries))
	}
	r.round++
	out := make([]T, len(entries))
	for i := range entries {
		e := &entries[i]
		was := r.of[e.ID]
		if was == nil || !was.entry.SameVersion(*e) {
			was = &reading[T]{entry: *e, value: read(*e)}
			r.of[e.ID] = was
		}
		was.round = r.round
		out[i] = was.value
	}
	if len(r.of) > len(entries) {
		for id, was := range r.of {
			if was.round != r.round {
				delete(r.of, id)
			}
		}
	}
	return out
}
