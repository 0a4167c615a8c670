// Package auditing looks after the weak spots of an open vault: what package audit finds, and how long each password
// holds, which is found out in the background.
//
// [Auditing.Look] returns what is known now. What was computed is right for one revision of the book and is kept until
// the next; how long a password holds is kept by what it was judged from, so that an edit has one password judged
// again, not all.
package auditing

import (
	"context"
	"errors"
	"slices"
	"strings"
	"sync"
	"time"

	"redlocket/app/gate"
	"redlocket/app/records"
	"redlocket/core/audit"
	"redlocket/core/secret"
	"redlocket/core/site"
	"redlocket/core/vault"
)

// Config is what auditing works with.
type Config struct {
	Set     *records.Set
	Now     func() time.Time
	Leaks   LeakFiles   // nil without a file system
	Service LeakService // nil without a network
	Post    Post        // nil without a network
	Changed func()      // more is known of how long passwords hold, or of leaked ones; may be nil
	Steps   gate.Steps  // for tests
}

// Auditing is the weak spots of one set of records.
type Auditing struct {
	cfg  Config
	gate *gate.Gate[known]
	work sync.WaitGroup
	stop context.CancelFunc
	ctx  context.Context

	mu     sync.Mutex   // guards memory; nobody goes through a gate with it
	memory audit.Memory // of the surveys before
}

// known is what was found out.
type known struct {
	survey  *audit.Survey
	at      int64 // the book's revision then; -1 for none
	judged  map[judgedBy]judged
	judging bool
	leaks   leakList
	watch   watching
}

// judgedBy is what a password is judged by.
type judgedBy struct {
	id                string
	password          secret.Text
	user, title, host string
}

type judged struct {
	verdict audit.Verdict
	weak    bool
}

// New returns the auditing of a set.
func New(cfg Config) *Auditing {
	a := &Auditing{cfg: cfg, gate: gate.New(&known{at: -1, judged: map[judgedBy]judged{}}, cfg.Steps)}
	a.ctx, a.stop = context.WithCancel(context.Background())
	return a
}

// Close drops what is known, and ends what is under way. From then on every method returns [gate.ErrLocked].
func (a *Auditing) Close() {
	was := a.gate.Close()
	a.stop()
	a.work.Wait()
	if was != nil {
		was.closeList()
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	a.memory = audit.Memory{}
}

// View is what is known of the weak spots.
type View struct {
	Survey     *audit.Survey
	Spots      []audit.Spot // the gravest first
	Judged, Of int          // passwords whose strength is known, of how many
}

// Look returns what is known now, and has the strength of passwords found out in the background.
func (a *Auditing) Look(ctx context.Context) (v View, err error) {
	s, err := a.Survey(ctx)
	if err != nil {
		return v, err
	}
	by, err := a.whatToJudge()
	if err != nil {
		return v, err
	}
	done := make(map[string]judged, len(by))
	err = a.gate.Write(func(k *known) error {
		for _, b := range by {
			if j, ok := k.judged[b]; ok {
				done[b.id] = j
			}
		}
		if len(done) < len(by) && !k.judging {
			k.judging = true
			a.work.Go(func() { a.judge(by) }) // inside: Close waits for what was begun before it
		}
		return nil
	})
	if err != nil {
		return v, err
	}
	weak := func(id string) (audit.Verdict, bool) { return done[id].verdict, done[id].weak }
	return View{s, s.Spots(weak), len(done), len(by)}, nil
}

// Survey returns what falls with what. It is computed again after a change only.
func (a *Auditing) Survey(ctx context.Context) (s *audit.Survey, err error) {
	err = a.gate.Read(func(k *known) error {
		if k.at == a.cfg.Set.Book.Revision() {
			s = k.survey
		}
		return nil
	})
	if err != nil || s != nil {
		return s, err
	}
	if err := a.openList(); err != nil {
		return nil, err
	}
	if err := a.openWatch(ctx); err != nil {
		return nil, err
	}
	at := a.cfg.Set.Book.Revision()
	entries, err := a.entries()
	if err != nil {
		return nil, err
	}
	if s, err = a.look(ctx, entries); err != nil {
		return nil, err
	}
	return s, a.gate.Write(func(k *known) error { k.survey, k.at = s, at; return nil })
}

// look makes a survey, and remembers what it read for the next one.
func (a *Auditing) look(ctx context.Context, entries []vault.Entry) (*audit.Survey, error) {
	o := a.options()
	a.mu.Lock()
	defer a.mu.Unlock()
	return a.memory.Survey(ctx, entries, o)
}

// Foresee says what would be wrong with a password that a sign-in at a page is kept with: whether it is leaked, and
// how many other accounts have it.
func (a *Auditing) Foresee(
	ctx context.Context, p secret.Text, page, user string,
) (leaked bool, others int, err error) {
	s, err := a.Survey(ctx)
	if err != nil {
		return false, 0, err
	}
	leaked, list := s.Foresee(p, site.Domain(page), user)
	return leaked, len(list), nil
}

func (a *Auditing) options() audit.Options {
	o := audit.Options{Now: a.now(), Site: a.cfg.Set.Sites.Directory().Of, Leaked: a.leaked()}
	_ = a.gate.Read(func(k *known) error { o.Exposed = k.watch.exposures(); return nil }) // none once locked
	return o
}

// entries are those of the book that aren't archived, in an order that stays.
func (a *Auditing) entries() ([]vault.Entry, error) {
	list, err := a.cfg.Set.Book.Shown()
	list = slices.DeleteFunc(list, vault.Entry.Archived)
	slices.SortFunc(list, func(x, y vault.Entry) int { return strings.Compare(x.ID, y.ID) })
	return list, err
}

func (a *Auditing) whatToJudge() (by []judgedBy, err error) {
	entries, err := a.entries()
	for _, e := range entries {
		it, p := vault.View(e), e.SignsInWith()
		if !it.Type.IsAccount() || p.IsEmpty() {
			continue
		}
		host := ""
		if len(it.Addresses) > 0 {
			host = site.Host(it.Addresses[0].URL)
		}
		by = append(by, judgedBy{e.ID, p, it.Username, it.Title, host})
	}
	return by, err
}

// judge finds out how long passwords hold, a few at a time.
func (a *Auditing) judge(by []judgedBy) {
	defer func() { // once locked, nobody asks any more
		_ = a.gate.Write(func(k *known) error { k.judging = false; return nil })
	}()
	for part := range slices.Chunk(by, 32) {
		found := make(map[judgedBy]judged, len(part))
		for _, b := range part {
			if a.ctx.Err() != nil {
				return
			}
			v, weak := audit.Weak(b.password, b.user, b.title, b.host)
			found[b] = judged{v, weak}
		}
		err := a.gate.Write(func(k *known) error {
			for b, j := range found {
				k.judged[b] = j
			}
			return nil
		})
		if err != nil {
			return
		}
	}
	if a.cfg.Changed != nil {
		a.cfg.Changed()
	}
}

// Before is what fell with a login before its password was changed last.
type Before struct {
	Fell int
	At   int64 // of the change, milliseconds since 1970
}

// BeforeChange says what fell with a login before its last change; ok is false if it had no other password.
func (a *Auditing) BeforeChange(ctx context.Context, id string) (b Before, ok bool, err error) {
	entries, err := a.entries()
	if err != nil {
		return b, false, err
	}
	i := slices.IndexFunc(entries, func(e vault.Entry) bool { return e.ID == id })
	if i < 0 {
		return b, false, nil
	}
	old, had := entries[i].PreviousPassword()
	if !had {
		return b, false, nil
	}
	b.At = entries[i].Fields[vault.FieldPassword].Stamp.At
	by := a.cfg.Set.Items.Stamp()
	e, err := entries[i].With(by, vault.Changes{vault.FieldPassword: old, vault.FieldStaged: secret.New("")})
	if err != nil {
		return b, false, err
	}
	entries[i] = e
	s, err := a.look(ctx, entries)
	if err != nil {
		return b, false, err
	}
	b.Fell = len(s.Reach(id).Fell)
	return b, true, nil
}

// ResetBy says which mailbox resets a login: its address, [audit.ResetByNone], or empty for what is found out.
func (a *Auditing) ResetBy(ctx context.Context, id, mailbox string) error {
	if err := a.gate.Read(func(*known) error { return nil }); err != nil {
		return err
	}
	if mailbox != "" && mailbox != audit.ResetByNone {
		s, err := a.Survey(ctx)
		if err != nil {
			return err
		}
		if !slices.Contains(s.MailboxAddresses(), mailbox) {
			return records.BadInput("mailbox", errors.New("none of your logins is that mailbox"))
		}
	}
	return a.cfg.Set.Items.Edit(ctx, id, func(e vault.Entry, by vault.Stamp) (vault.Entry, error) {
		return e.With(by, vault.Changes{audit.FieldResetBy: mailbox})
	})
}
