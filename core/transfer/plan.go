package transfer

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"reflect"
	"slices"
	"strings"

	"redlocket/core/secret"
	"redlocket/core/site"
	"redlocket/core/vault"
)

// Source is a file that was read.
type Source struct {
	Name   string
	Kind   string   // "table", "items" or "exchange"
	Table  *Table   // of a table
	Column []Column // of a table
	Rows   []Row
	Broken []Broken
}

// Group says how a step relates to what the vault has.
type Group string

// The groups.
const (
	GroupNew    Group = "new"    // the vault has no such login
	GroupTwin   Group = "twin"   // several rows of the files are one new login
	GroupKnown  Group = "known"  // nothing of it is missing in the vault
	GroupMore   Group = "more"   // known, and the files have something to add
	GroupDiffer Group = "differ" // one site and user name, several passwords
)

// Groups are all groups in the order of a plan.
var Groups = []Group{GroupNew, GroupTwin, GroupKnown, GroupMore, GroupDiffer}

// Decision is what is to happen with a step.
type Decision string

// The decisions. A password that isn't current afterwards is in the history, but for
// those that were left out by their user's word.
const (
	DecideAdd   Decision = "add"   // bring it in
	DecideSkip  Decision = "skip"  // leave it out
	DecideNewer Decision = "newer" // of several passwords the one set last becomes current
	DecideBoth  Decision = "both"  // all stay at hand until one was tried
	DecideThis  Decision = "this"  // the picked one becomes current
	DecideApart Decision = "apart" // each becomes a login of its own
)

// Candidate is one of several passwords of a login.
type Candidate struct {
	Password secret.Text
	At       int64 // when it was set, in milliseconds since 1970; 0 if nobody knows
	Vault    bool  // it is the current one in the vault
	Sources  []int // the files that have it, by place
}

// Step is one login or other item of the plan, with the rows that it is made of.
type Step struct {
	Key        string // names the step, also in a plan that is made again; it has nothing secret in it
	Group      Group
	Type       vault.Type
	Title      string
	Site       string
	Username   string
	Existing   string // id in the vault; empty if it is new
	Archived   bool   // it is in the vault's archive
	Rows       []Row
	Candidates []Candidate // where there are several
	Adds       []Gain      // what the vault's item gets
	Decision   Decision
	Pick       int // of Candidates, for DecideThis

	have     *vault.Entry // of the vault
	nameless []*vault.Entry
}

// Dated reports whether it is known of every candidate when it was set, and of one
// that it was the last.
func (s Step) Dated() bool {
	var last, n int64
	for _, c := range s.Candidates {
		if c.At == 0 {
			return false
		}
		if c.At > last {
			last, n = c.At, 0
		}
		if c.At == last {
			n++
		}
	}
	return n == 1
}

// Plan is what an import would do. Nothing of it is written before [Plan.Apply].
type Plan struct {
	Sources []Source
	Steps   []Step
	Broken  []Broken
}

// Options say what a plan needs to know.
type Options struct {
	// Site returns the domain that stands for a site of several; nil takes each for itself.
	Site func(domain string) string
	// Progress, if it is set, hears how many of how many items are planned for.
	Progress func(done, of int)
	// By is the stamp of what the plan adds to what a person wrote.
	By vault.Stamp
}

// NewPlan compares what files bring with what a vault holds. The order of the files,
// and of their rows, makes no difference.
func NewPlan(ctx context.Context, entries []vault.Entry, sources []Source, o Options) (*Plan, error) {
	p := &Plan{Sources: sources}
	if o.Site == nil {
		o.Site = func(d string) string { return d }
	}
	m := newMatcher(entries, o)
	for _, s := range sources {
		for _, r := range s.Rows {
			m.inFiles[r.Entry.ID] = true
		}
	}
	for i, s := range sources {
		for n, r := range s.Rows {
			if n&1023 == 0 && ctx.Err() != nil {
				return nil, ctx.Err()
			}
			r.Source = i
			r.notLater(o.By.At)
			m.add(r)
		}
		for _, b := range s.Broken {
			b.Source = i
			p.Broken = append(p.Broken, b)
		}
	}
	list := m.clusters()
	for i, c := range list {
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		if o.Progress != nil && i&255 == 0 {
			o.Progress(i, len(list))
		}
		p.Steps = append(p.Steps, newStep(c, o.By))
	}
	slices.SortStableFunc(p.Steps, func(a, b Step) int {
		return cmp.Or(
			cmp.Compare(slices.Index(Groups, a.Group), slices.Index(Groups, b.Group)),
			strings.Compare(
				strings.ToLower(a.Title),
				strings.ToLower(b.Title),
			),
			strings.Compare(a.Username, b.Username),
		)
	})
	return p, nil
}

// notLater brings moments that are yet to come, of a clock that goes wrong, to now.
func (r *Row) notLater(now int64) {
	if r.Entry.ID != "" || now == 0 {
		return
	}
	for f, reg := range r.Entry.Fields {
		if reg.Stamp.At > now {
			r.Entry.Fields = maps.Clone(r.Entry.Fields)
			reg.Stamp.At = now
			r.Entry.Fields[f] = reg
		}
	}
}

// newStep makes the step of a cluster, with its group.
func newStep(c *cluster, by vault.Stamp) Step {
	s := Step{
		Key:      fmt.Sprintf("row %d %d", c.rows[0].Source, c.rows[0].Line),
		Rows:     c.rows,
		Decision: DecideAdd,
		nameless: c.nameless,
	}
	merged := joinRows(c, by)
	if c.have != nil {
		s.Key, s.Existing, s.Archived, s.have = "id "+c.have.ID, c.have.ID, c.have.Archived(), c.have
	}
	it := vault.View(merged)
	s.Type, s.Title, s.Username = it.Type, it.Title, it.Username
	if len(it.Addresses) > 0 {
		s.Site = site.Domain(it.Addresses[0].URL)
	}
	s.Candidates = candidates(c)
	switch {
	case c.have != nil && len(c.nameless) == 0 && len(s.texts(*c.have)) == 0 && reflect.DeepEqual(merged, *c.have):
		s.Group, s.Decision, s.Candidates = GroupKnown, DecideSkip, nil
	case len(s.Candidates) > 1:
		s.Group, s.Decision = GroupDiffer, DecideBoth
		if s.Dated() {
			s.Decision = DecideNewer
		}
	case c.have != nil:
		s.Group, s.Adds, s.Candidates = GroupMore, gains(*c.have, merged), nil
		for _, t := range s.texts(*c.have) {
			s.Adds = append(s.Adds, Gain{merged.Kind(), vault.FileField(""), t.Name})
		}
	case len(c.rows) > 1:
		s.Group, s.Candidates = GroupTwin, nil
	default:
		s.Group, s.Candidates = GroupNew, nil
	}
	return s
}

// candidates are the passwords of a cluster: the vault's first, then by text. One that
// the vault's history has, and that isn't newer than the current one, is none.
func candidates(c *cluster) (out []Candidate) {
	place := map[string]int{} // of a password in out
	add := func(password string, at int64, source int) {
		if password == "" {
			return
		}
		if !Dated(at) {
			at = 0
		}
		if i, ok := place[password]; ok {
			o := &out[i]
			if o.At = max(o.At, at); source >= 0 && !slices.Contains(o.Sources, source) {
				o.Sources = append(o.Sources, source)
			}
			return
		}
		place[password] = len(out)
		n := Candidate{Password: secret.New(password), At: at, Vault: source < 0}
		if source >= 0 {
			n.Sources = []int{source}
		}
		out = append(out, n)
	}
	if c.have != nil {
		add(c.have.Text(vault.FieldPassword), c.have.Fields[vault.FieldPassword].Stamp.At, -1)
	}
	n := len(out)
	for _, r := range c.rows {
		p := r.Entry.Text(vault.FieldPassword)
		if c.have != nil && !bringsPassword(*c.have, r.Entry) && (n == 0 || out[0].Password.Reveal() != p) {
			continue
		}
		add(p, r.Entry.Fields[vault.FieldPassword].Stamp.At, r.Source)
	}
	slices.SortFunc(
		out[n:],
		func(a, b Candidate) int { return strings.Compare(a.Password.Reveal(), b.Password.Reveal()) },
	)
	return out
}

// Gain is a field that an item gets from a file.
type Gain struct {
	Type  vault.Type  // of the item
	Field vault.Field // empty for earlier values of fields that stay
	Name  string      // of a custom field or a file
}

// gains are the fields in which two versions of an item differ.
func gains(before, after vault.Entry) (out []Gain) {
	for _, f := range slices.Sorted(maps.Keys(after.Fields)) {
		if r := after.Fields[f]; before.Fields[f].Value != r.Value {
			out = append(out, Gain{after.Kind(), f, vault.NameIn(f, r)})
		}
	}
	if len(out) == 0 {
		out = []Gain{{Type: after.Kind()}}
	}
	return out
}

// Decide sets what is to happen with every step of a group that it can happen with.
func (p *Plan) Decide(g Group, d Decision) {
	for i := range p.Steps {
		if p.Steps[i].Group == g {
			p.DecideOne(i, d, 0)
		}
	}
}

// DecideOne sets what is to happen with one step. Where it can't happen, such as a
// newer password where nobody knows the dates, the step stays as it was; ok says so.
func (p *Plan) DecideOne(i int, d Decision, pick int) (ok bool) {
	if i < 0 || i >= len(p.Steps) {
		return false
	}
	s := &p.Steps[i]
	switch d {
	case DecideAdd:
		ok = s.Group != GroupKnown && s.Group != GroupDiffer
	case DecideSkip:
		ok = true
	case DecideNewer:
		ok = s.Group == GroupDiffer && s.Dated()
	case DecideBoth, DecideApart:
		ok = s.Group == GroupDiffer
	case DecideThis:
		ok = s.Group == GroupDiffer && pick >= 0 && pick < len(s.Candidates)
	}
	if ok {
		s.Decision, s.Pick = d, pick
	}
	return ok
}

// Adopt takes over the decisions of an earlier plan for steps that are the same still.
func (p *Plan) Adopt(old *Plan) {
	was := make(map[string]Step, len(old.Steps))
	for _, s := range old.Steps {
		was[s.Key] = s
	}
	for i, s := range p.Steps {
		o, ok := was[s.Key]
		if !ok || o.Group != s.Group && o.Decision != DecideSkip {
			continue
		}
		pick := slices.IndexFunc(s.Candidates, func(c Candidate) bool {
			return o.Pick < len(o.Candidates) && c.Password == o.Candidates[o.Pick].Password
		})
		p.DecideOne(i, o.Decision, pick)
	}
}

// Count is how many steps and rows a group has, and how many of its steps are to
// be imported.
type Count struct{ Steps, Rows, In, Undecided int }

// Count counts a group.
func (p *Plan) Count(g Group) (c Count) {
	for _, s := range p.Steps {
		if s.Group != g {
			continue
		}
		c.Steps++
		c.Rows += len(s.Rows)
		if s.Decision != DecideSkip {
			c.In++
		}
		if s.Decision == DecideBoth {
			c.Undecided++
		}
	}
	return c
}
