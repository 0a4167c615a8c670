package tidy

import (
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"

	"redlocket/core/vault"
)

// Verdict is what the user said of rows that may be one login.
type Verdict string

// The verdicts.
const (
	Joined Verdict = "joined" // they are one, and were joined
	Apart  Verdict = "apart"  // they are not, for good
	Later  Verdict = "later"  // asked again when nothing else is left
)

// Decision is a verdict, kept in the vault: it counts on all devices, and can be taken back days later.
type Decision struct {
	ID      string
	Run     string // what was decided by one act has one name
	Verdict Verdict
	IDs     []string // of the rows
	Titles  []string // of the rows, as they were
	At      int64    // milliseconds since 1970
	By      string   // device
	Undone  int64    // when it was taken back; 0 if it wasn't
	What    What     // of Improved and AsIs

	steps []step // what joining did
}

// step is what a decision did to one entry.
type step struct {
	Before json.RawMessage `json:"before"`
	After  json.RawMessage `json:"after"`
}

const (
	fieldVerdict vault.Field = "verdict"
	fieldRows    vault.Field = "rows"   // ids
	fieldTitles  vault.Field = "titles" // of the rows
	fieldRun     vault.Field = "run"
	fieldSteps   vault.Field = "steps"
	fieldUndone  vault.Field = "undone"
)

// Errors of deciding and taking back.
var (
	ErrChanged    = errors.New("rows of the proposal aren't what they were")
	ErrNoDecision = errors.New("no such decision, or it was taken back")
)

// Settle writes a verdict down, and for Joined what becomes of the rows: the one login, and the others archived. rows
// are the entries in the proposal's order; id names the decision and run the act that it belongs to. What is returned
// is to be written all or not at all.
func Settle(
	id, run string, verdict Verdict, rows []vault.Entry, s Survives, by vault.Stamp,
) (write []vault.Entry, err error) {
	if len(rows) < 2 {
		return nil, ErrChanged
	}
	var ids, titles []string
	var steps []step
	for _, e := range rows {
		if !e.IsItem() || e.Archived() || e.Purged() {
			return nil, ErrChanged
		}
		ids, titles = append(ids, e.ID), append(titles, e.Text(vault.FieldTitle))
	}
	if verdict == Joined {
		if write, steps, err = settleJoin(rows, s, by); err != nil {
			return nil, err
		}
	}
	c := vault.Changes{fieldVerdict: string(verdict), fieldRows: ids, fieldTitles: titles, fieldRun: run}
	if len(steps) > 0 {
		c[fieldSteps] = steps
	}
	d, err := vault.New(id, vault.TypeTidy, by, c)
	return append(write, d), err
}

func settleJoin(rows []vault.Entry, s Survives, by vault.Stamp) (write []vault.Entry, steps []step, err error) {
	one, err := Join(rows, s, by)
	if err != nil {
		return nil, nil, err
	}
	for _, e := range rows {
		after := one
		if e.ID != one.ID {
			if after, err = e.Archive(by); err != nil {
				return nil, nil, err
			}
		}
		b, err1 := e.Encode()
		a, err2 := after.Encode()
		if err := errors.Join(err1, err2); err != nil {
			return nil, nil, fmt.Errorf("failed to remember what was joined: %w", err)
		}
		write, steps = append(write, after), append(steps, step{b, a})
	}
	return write, steps, nil
}

// Decisions reads what was decided in a vault, the latest first.
func Decisions(entries []vault.Entry) (out []Decision) {
	for _, e := range entries {
		if d, ok := decisionOf(e); ok {
			out = append(out, d)
		}
	}
	slices.SortFunc(out, func(a, b Decision) int {
		return cmp.Or(cmp.Compare(b.At, a.At), strings.Compare(b.ID, a.ID))
	})
	return out
}

func decisionOf(e vault.Entry) (d Decision, ok bool) {
	if e.Type != vault.TypeTidy {
		return d, false
	}
	d = Decision{
		ID: e.ID, Run: e.Text(fieldRun), Verdict: Verdict(e.Text(fieldVerdict)), At: e.Created,
		By: e.Fields[fieldVerdict].Stamp.By, What: whatOf(e),
	}
	for f, to := range map[vault.Field]any{
		fieldRows: &d.IDs, fieldTitles: &d.Titles, fieldSteps: &d.steps, fieldUndone: &d.Undone,
	} {
		if r, there := e.Fields[f]; there {
			_ = json.Unmarshal([]byte(r.Value.Reveal()), to) // of another version: as if it weren't there
		}
	}
	return d, len(d.IDs) > 1 || d.What != "" && len(d.IDs) > 0
}

// Said is what decisions say about rows.
type Said struct {
	apart, doubted pairs
	later          map[string]bool // by the rows' key
	asIs           map[string]bool // by a row's id and the way
}

// pairs are pairs of rows, in whatever order.
type pairs map[[2]string]bool

func (p pairs) add(ids []string) {
	for i, a := range ids {
		for _, b := range ids[:i] {
			p[[2]string{min(a, b), max(a, b)}] = true
		}
	}
}

func (p pairs) has(a, b string) bool { return p[[2]string{min(a, b), max(a, b)}] }

// Standing gathers what decisions say now: those that weren't taken back, and that the others are in doubt.
func Standing(list []Decision) Said {
	s := Said{pairs{}, pairs{}, map[string]bool{}, map[string]bool{}}
	for _, d := range list {
		switch {
		case d.Undone != 0 && d.Verdict == Joined:
			s.doubted.add(d.IDs)
		case d.Undone != 0:
		case d.Verdict == Later:
			s.later[Key(d.IDs)] = true
		case d.Verdict == Apart:
			s.apart.add(d.IDs)
		case d.Verdict == AsIs:
			for _, id := range d.IDs {
				s.asIs[id+" "+string(d.What)] = true
			}
		}
	}
	return s
}

// Apart reports whether two rows are to stay apart, for [Options].
func (s Said) Apart(a, b string) bool { return s.apart.has(a, b) }

// Doubted reports whether two rows were joined and taken apart again, for [Options].
func (s Said) Doubted(a, b string) bool { return s.doubted.has(a, b) }

// Later reports whether exactly these rows were put off.
func (s Said) Later(ids []string) bool { return s.later[Key(ids)] }

// Key names a set of rows, in whatever order.
func Key(ids []string) string {
	sorted := slices.Clone(ids)
	slices.Sort(sorted)
	return strings.Join(sorted, " ")
}

// Back is what taking decisions back does.
type Back struct {
	Entries []vault.Entry // to be written, together
	Count   int           // decisions taken back
	Kept    []string      // titles of logins that were edited since, whose edits stay
}

// TakeBack takes back the decisions that want names, the latest first. What was edited since stays as it is. The error
// is ErrNoDecision if there is none of them.
func TakeBack(want func(Decision) bool, entries map[string]vault.Entry, by vault.Stamp) (b Back, err error) {
	var list []Decision
	for _, e := range entries {
		if d, ok := decisionOf(e); ok && d.Undone == 0 && d.Verdict != Trying && want(d) {
			list = append(list, d)
		}
	}
	if len(list) == 0 {
		return b, ErrNoDecision
	}
	slices.SortFunc(list, func(x, y Decision) int {
		return cmp.Or(cmp.Compare(y.At, x.At), strings.Compare(y.ID, x.ID))
	})
	now := map[string]vault.Entry{}
	for _, d := range list {
		for _, st := range slices.Backward(d.steps) {
			if err := b.reverse(st, now, entries, by); err != nil {
				return Back{}, err
			}
		}
		e, err := entries[d.ID].With(by, vault.Changes{fieldUndone: by.At})
		if err != nil {
			return Back{}, err
		}
		b.Entries, b.Count = append(b.Entries, e), b.Count+1
	}
	for _, e := range now {
		b.Entries = append(b.Entries, e)
	}
	slices.SortFunc(b.Entries, func(x, y vault.Entry) int { return strings.Compare(x.ID, y.ID) })
	slices.Sort(b.Kept)
	b.Kept = slices.Compact(b.Kept)
	return b, nil
}

// reverse takes one step back, from what the entry is after the steps that were taken back already.
func (b *Back) reverse(st step, now, entries map[string]vault.Entry, by vault.Stamp) error {
	before, err1 := vault.Decode(st.Before)
	after, err2 := vault.Decode(st.After)
	if err := errors.Join(err1, err2); err != nil {
		return fmt.Errorf("failed to read what was joined: %w", err)
	}
	e, ok := now[after.ID]
	if !ok {
		e, ok = entries[after.ID]
	}
	if !ok || e.Purged() {
		return nil
	}
	back, kept, err := e.Reverse(by, before, after)
	if err != nil {
		return err
	}
	if len(kept) > 0 {
		b.Kept = append(b.Kept, before.Text(vault.FieldTitle))
	}
	now[after.ID] = back
	return nil
}
