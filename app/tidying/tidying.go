// Package tidying decides about logins that may be one: what package tidy proposes, and what its user says of it.
//
// [Tidying.List] computes the proposals of the vault as it is; they are computed again only after a change. A verdict
// is written with everything that it does in one transaction, and is an entry of the vault itself: it counts on all
// devices, and can be taken back days later.
package tidying

import (
	"context"
	"errors"
	"maps"
	"slices"
	"strings"
	"sync"

	"redlocket/app/gate"
	"redlocket/app/records"
	"redlocket/core/directory"
	"redlocket/core/site"
	"redlocket/core/tidy"
	"redlocket/core/vault"
)

// Tidying is the proposals of one set of records.
type Tidying struct {
	set  *records.Set
	gate *gate.Gate[known]

	mu     sync.Mutex  // guards memory; nobody goes through a gate with it
	memory tidy.Memory // of the searches before
}

// known is what was computed last.
type known struct {
	list List
	at   int64 // the book's revision then; -1 for none
}

// New returns the tidying of a set. steps is for tests.
func New(set *records.Set, steps gate.Steps) *Tidying {
	return &Tidying{set: set, gate: gate.New(&known{at: -1}, steps)}
}

// Close drops what is known; from then on every method returns [gate.ErrLocked].
func (t *Tidying) Close() {
	t.gate.Close()
	t.mu.Lock()
	defer t.mu.Unlock()
	t.memory = tidy.Memory{}
}

// List is what waits to be decided, and what was decided. It must not be changed.
type List struct {
	Sure, Likely, Questions []tidy.Proposal
	Later                   []tidy.Proposal // put off
	Done                    []tidy.Decision // that stand, the latest first; without those put off
	Better                  []tidy.Better   // how single logins can be better
	trying                  []tidy.TryOut
}

// Left are the proposals that wait, in the order in which they are asked.
func (l List) Left() []tidy.Proposal { return slices.Concat(l.Sure, l.Likely, l.Questions, l.Later) }

// Waiting is how many wait that weren't put off.
func (l List) Waiting() int { return len(l.Sure) + len(l.Likely) + len(l.Questions) }

// List returns what waits and what was decided. It stops with the context's error.
func (t *Tidying) List(ctx context.Context) (l List, err error) {
	fresh := false
	err = t.gate.Read(func(k *known) error {
		l, fresh = k.list, k.at == t.set.Book.Revision()
		return nil
	})
	if err != nil || fresh {
		return l, err
	}
	at := t.set.Book.Revision()
	if l, err = t.compute(ctx); err != nil {
		return l, err
	}
	return l, t.gate.Write(func(k *known) error { *k = known{l, at}; return nil })
}

func (t *Tidying) compute(ctx context.Context) (l List, err error) {
	entries, err := t.set.Book.Changeable()
	if err != nil {
		return l, err
	}
	decisions, err := t.set.Book.Entries(func(e vault.Entry) bool { return e.Type == vault.TypeTidy })
	if err != nil {
		return l, err
	}
	entries = append(entries, decisions...)
	slices.SortFunc(entries, func(a, b vault.Entry) int { return strings.Compare(a.ID, b.ID) })
	used := t.set.Book.Used()
	decided := tidy.Decisions(entries)
	said := tidy.Standing(decided)
	l.trying = tidy.TryOuts(entries)
	refused := map[string]bool{}
	for _, o := range l.trying {
		for _, try := range o.Tries {
			refused[try.ID] = !try.Taken
		}
	}
	found, err := t.find(ctx, entries, tidy.Options{
		Site: t.set.Sites.Directory().Of, Apart: said.Apart, Doubted: said.Doubted,
		Refused: func(id string) bool { return refused[id] }, Used: func(id string) int64 { return used[id] },
	})
	if err != nil {
		return l, err
	}
	better := tidy.Improve(entries, t.known, func(id string) int64 { return used[id] }, t.set.Items.Stamp().At)
	for _, b := range better {
		if !said.AsItIs(b.ID, b.What) {
			l.Better = append(l.Better, b)
		}
	}
	shared := map[string]string{}
	for _, e := range entries {
		shared[e.ID], _ = e.Share()
	}
	for _, p := range found {
		sets := setsOf(p, shared)
		if len(sets) > 1 && !slices.Contains(sets, "") || len(sets) > 2 {
			continue // shared with different people, and so apart
		}
		if len(sets) > 1 && p.Sure == tidy.Sure {
			p.Sure = tidy.Likely // what is one's own would be seen by others: that is looked at
		}
		switch {
		case said.Later(p.IDs):
			l.Later = append(l.Later, p)
		case p.Sure == tidy.Sure:
			l.Sure = append(l.Sure, p)
		case p.Sure == tidy.Likely:
			l.Likely = append(l.Likely, p)
		default:
			l.Questions = append(l.Questions, p)
		}
	}
	l.Done = slices.DeleteFunc(decided, func(d tidy.Decision) bool {
		return d.Undone != 0 || d.Verdict == tidy.Later || d.Verdict == tidy.Trying
	})
	return l, nil
}

// setsOf are the sets in which a proposal's rows are shared, each once; empty stands for one's own.
func setsOf(p tidy.Proposal, shared map[string]string) (sets []string) {
	for _, id := range p.IDs {
		if s := shared[id]; !slices.Contains(sets, s) {
			sets = append(sets, s)
		}
	}
	return sets
}

// find remembers what it read for the next time.
func (t *Tidying) find(ctx context.Context, entries []vault.Entry, o tidy.Options) ([]tidy.Proposal, error) {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.memory.Find(ctx, entries, o)
}

// known is what the directory of sites knows of a domain.
func (t *Tidying) known(domain string) tidy.Known {
	s, ok := t.set.Sites.Directory().Lookup(domain)
	if !ok {
		return tidy.Known{}
	}
	return tidy.Known{Name: s.Name, SignIn: s.SignIn, Domains: s.Domains}
}

// Improve makes logins better in one way, as one act; those in but are left as they are, for good.
func (t *Tidying) Improve(ctx context.Context, what tidy.What, shown map[string]bool, but map[string]bool) error {
	l, err := t.List(ctx)
	if err != nil {
		return err
	}
	var do, leave []tidy.Better
	for _, b := range l.Better {
		switch {
		case b.What != what || !shown[b.ID]:
		case but[b.ID]:
			leave = append(leave, b)
		default:
			do = append(do, b)
		}
	}
	if len(do)+len(leave) == 0 {
		return tidy.ErrChanged
	}
	if what == tidy.BetterSite {
		if err := t.oneSite(ctx, do); err != nil {
			return err
		}
		if do = nil; len(leave) == 0 {
			return nil
		}
	}
	return t.set.Items.SaveMany(ctx, func(entries map[string]vault.Entry) (write []vault.Entry, err error) {
		for _, part := range []struct {
			verdict tidy.Verdict
			list    []tidy.Better
		}{{tidy.Improved, do}, {tidy.AsIs, leave}} {
			if len(part.list) == 0 {
				continue
			}
			one, err := tidy.SettleBetter(records.NewID(), part.verdict, part.list, entries, t.set.Items.Stamp())
			if err != nil {
				return nil, err
			}
			write = append(write, one...)
		}
		return write, nil
	}, nil)
}

// oneSite adds to the user's own directory that domains are one site.
func (t *Tidying) oneSite(ctx context.Context, list []tidy.Better) error {
	var sites []directory.Site
	of := func(domain string) directory.Site {
		for _, s := range sites {
			if slices.Contains(s.Domains, domain) {
				return s
			}
		}
		if s, ok := t.set.Sites.Directory().Lookup(domain); ok {
			return s
		}
		return directory.Site{Name: site.Title("https://" + domain), Domains: []string{domain}}
	}
	for _, b := range list {
		one, other := of(b.From), of(b.To)
		for _, d := range other.Domains {
			if !slices.Contains(one.Domains, d) {
				one.Domains = append(slices.Clone(one.Domains), d)
			}
		}
		sites = append(slices.DeleteFunc(sites, func(s directory.Site) bool {
			return slices.Contains(one.Domains, s.Domains[0])
		}), one)
	}
	if len(sites) == 0 {
		return nil
	}
	b, err := directory.Encode(sites)
	if err != nil {
		return err
	}
	_, err = t.set.Sites.Add(ctx, b)
	return err
}

// Rows returns the entries with the given ids, in that order. The error is [tidy.ErrChanged] if one isn't a login of
// the book any more.
func (t *Tidying) Rows(ids []string) ([]vault.Entry, error) {
	var rows []vault.Entry
	for _, id := range ids {
		e, err := t.set.Items.Entry(id)
		if errors.Is(err, records.ErrNoItem) || err == nil && e.Archived() {
			return nil, tidy.ErrChanged
		}
		if err != nil {
			return nil, err
		}
		rows = append(rows, e)
	}
	return rows, nil
}

// Choice is what survives, by the rows that it is taken from; what is empty is as the proposal has it.
type Choice struct {
	Title, Username, Password string // ids of rows
	Address                   string // an address that one of the rows has
}

// Join makes the rows one login: as it was proposed, but for what was chosen.
func (t *Tidying) Join(ctx context.Context, ids []string, c Choice) error {
	l, err := t.List(ctx)
	if err != nil {
		return err
	}
	p, ok := l.find(ids)
	if !ok {
		return tidy.ErrChanged
	}
	return t.settle(ctx, tidy.Joined, []tidy.Proposal{p}, c)
}

// JoinSure joins every sure proposal whose key is among those given: what its user was shown. It returns how many.
func (t *Tidying) JoinSure(ctx context.Context, keys []string) (int, error) {
	l, err := t.List(ctx)
	if err != nil {
		return 0, err
	}
	var list []tidy.Proposal
	for _, p := range l.Sure {
		if slices.Contains(keys, tidy.Key(p.IDs)) {
			list = append(list, p)
		}
	}
	if len(list) == 0 {
		return 0, tidy.ErrChanged
	}
	return len(list), t.settle(ctx, tidy.Joined, list, Choice{})
}

// KeepApart says that no two of the rows are one login, for good.
func (t *Tidying) KeepApart(ctx context.Context, ids []string) error {
	return t.settle(ctx, tidy.Apart, []tidy.Proposal{{IDs: ids}}, Choice{})
}

// LeaveOut says that one of the rows is a login of its own; the others stay together.
func (t *Tidying) LeaveOut(ctx context.Context, ids []string, one string) error {
	var list []tidy.Proposal
	for _, id := range ids {
		if id != one {
			list = append(list, tidy.Proposal{IDs: []string{one, id}})
		}
	}
	if len(list) == len(ids) {
		return tidy.ErrChanged
	}
	return t.settle(ctx, tidy.Apart, list, Choice{})
}

// PutOff asks about the rows again when nothing else is left.
func (t *Tidying) PutOff(ctx context.Context, ids []string) error {
	return t.settle(ctx, tidy.Later, []tidy.Proposal{{IDs: ids}}, Choice{})
}

// settle writes a verdict about each of the proposals, all as one act.
func (t *Tidying) settle(ctx context.Context, v tidy.Verdict, list []tidy.Proposal, c Choice) error {
	run := records.NewID()
	return t.set.Items.SaveMany(ctx, func(entries map[string]vault.Entry) ([]vault.Entry, error) {
		var write []vault.Entry
		for i, p := range list {
			rows := make([]vault.Entry, 0, len(p.IDs))
			for _, id := range p.IDs {
				rows = append(rows, entries[id])
			}
			s, err := c.over(p.Survives, rows)
			if err != nil {
				return nil, err
			}
			by := t.set.Items.Stamp()
			by.At += int64(i) // an order among them, for taking them back
			one, err := tidy.Settle(records.NewID(), run, v, rows, s, by)
			if err != nil {
				return nil, err
			}
			write = append(write, one...)
		}
		return write, nil
	}, nil)
}

// over puts what was chosen in the place of what was proposed.
func (c Choice) over(s tidy.Survives, rows []vault.Entry) (tidy.Survives, error) {
	row := func(id string) (e vault.Entry, err error) {
		i := slices.IndexFunc(rows, func(e vault.Entry) bool { return e.ID == id })
		if i < 0 {
			return e, tidy.ErrChanged
		}
		return rows[i], nil
	}
	if c.Title != "" {
		e, err := row(c.Title)
		if err != nil {
			return s, err
		}
		s.Title = e.Text(vault.FieldTitle)
	}
	if c.Username != "" {
		e, err := row(c.Username)
		if err != nil {
			return s, err
		}
		s.Username = strings.TrimSpace(e.Text(vault.FieldUsername))
	}
	if c.Password != "" {
		if _, err := row(c.Password); err != nil {
			return s, err
		}
		s.PasswordOf = c.Password
	}
	if c.Address != "" {
		has := func(a vault.Address) bool { return a.URL == c.Address }
		if !slices.ContainsFunc(rows, func(e vault.Entry) bool {
			return slices.ContainsFunc(vault.View(e).Addresses, has)
		}) {
			return s, tidy.ErrChanged
		}
		s.Address = c.Address
	}
	return s, nil
}

// TakeBack takes a decision back, also one of another day or device; with all, every one of the same act. What was
// edited since stays, and is named.
func (t *Tidying) TakeBack(ctx context.Context, id string, all bool) (back tidy.Back, err error) {
	run := ""
	if all {
		l, err := t.List(ctx)
		if err != nil {
			return back, err
		}
		if i := slices.IndexFunc(l.Done, func(d tidy.Decision) bool { return d.ID == id }); i >= 0 {
			run = l.Done[i].Run
		}
	}
	return t.takeBack(ctx, func(d tidy.Decision) bool { return d.ID == id || run != "" && d.Run == run })
}

// TakeBackSince takes back everything that was decided since a moment, in milliseconds since 1970.
func (t *Tidying) TakeBackSince(ctx context.Context, ms int64) (tidy.Back, error) {
	return t.takeBack(ctx, func(d tidy.Decision) bool { return d.At >= ms })
}

func (t *Tidying) takeBack(ctx context.Context, want func(tidy.Decision) bool) (back tidy.Back, err error) {
	err = t.set.Items.SaveMany(ctx, func(entries map[string]vault.Entry) ([]vault.Entry, error) {
		back, err = tidy.TakeBack(want, maps.Clone(entries), t.set.Items.Stamp())
		return back.Entries, err
	}, nil)
	return back, err
}
