package vault

import (
	"encoding/json"
	"maps"
)

// Merge joins two versions of one entry. Every register carries the stamp of the
// edit that set it, and an edit's stamp is always later than what it replaced,
// so the versions need no common ancestor at hand: field by field the later stamp
// wins. The join is commutative, associative and idempotent; devices that have
// seen the same edits hold the same entry, in whatever order they arrived.
//
// A value that loses moves to the past, so no password is ever dropped. If
// nobody had replaced it knowingly it stays a rival ([Entry.Conflicts]) until
// the user says which one the site accepts. An entry deleted for good stays so
// unless the other version was edited elsewhere.
func Merge(a, b Entry) Entry {
	out := a
	out.Created = min(a.Created, b.Created)
	out.Fields = maps.Clone(a.Fields)
	if out.Fields == nil {
		out.Fields = map[Field]Register{}
	}
	out.Past = JoinPast(a.Past, b.Past)
	out.Extra = mergeExtra(a.Extra, b.Extra)
	for f, theirs := range b.Fields {
		ours, both := a.Fields[f]
		if !both {
			out.Fields[f] = theirs
			continue
		}
		if f == fieldPurged {
			out.Fields[f] = joinPurged(ours, theirs)
			continue
		}
		winner, loser := ours, theirs
		if Later(theirs, ours) {
			winner, loser = theirs, ours
		}
		out.Fields[f] = winner
		if p, ok := Superseded(f, loser); ok && winner != loser {
			out.Past = JoinPast(out.Past, []Past{p})
		}
	}
	return out.Normal()
}

// Later orders registers. Equal stamps with different values can't come from
// one device's own edits, but must still be ordered the same everywhere.
func Later(a, b Register) bool {
	if c := a.Stamp.Compare(b.Stamp); c != 0 {
		return c > 0
	}
	return a.Value.Reveal() > b.Value.Reveal()
}

// mergeExtra joins the keys of newer versions. The format asks those to keep what
// can be edited in registers, and to write other keys once; should two values
// meet all the same, the greater text wins everywhere.
func mergeExtra(a, b map[string]json.RawMessage) map[string]json.RawMessage {
	if len(a) == 0 {
		return b
	}
	out := maps.Clone(a)
	for k, v := range b {
		if string(v) > string(out[k]) {
			out[k] = v
		}
	}
	return out
}
