package household

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"slices"
	"strconv"

	"github.com/google/uuid"

	"redlocket/app/records"
	"redlocket/app/syncing"
	"redlocket/core/keys"
	"redlocket/core/share"
	"redlocket/core/vault"
	"redlocket/core/wire"
)

// run is one run of Collect.
type run struct {
	*Household
	cloud      Cloud
	credential string
	own        keys.Identity
	public     keys.PublicIdentity // of own; zero if the owner has no keys yet, and so nobody knows them
	known      string              // who is known as the run begins
}

// InStep has what is to go out handed over, and what waits fetched, beside whoever calls: that is when the set is in
// step with its cloud. What is handed over is committed by then, and what was fetched is dropped at the cloud once that
// is committed, too. One run goes at a time.
func (h *Household) InStep(ctx context.Context) {
	now := h.Now()
	if !h.look.Begin(now, nil) {
		return
	}
	entries, err := h.entries() // as they are committed now
	h.Beside(func() {
		if err == nil {
			err = h.collect(ctx, entries)
		}
		if h.look.End(now, err) {
			h.Nudge()
		}
	})
}

// Collect is one such run, waited for.
func (h *Household) Collect(ctx context.Context) error {
	entries, err := h.entries()
	if err != nil {
		return err
	}
	return h.collect(ctx, entries)
}

func (h *Household) collect(ctx context.Context, entries []vault.Entry) error {
	if err := h.expire(ctx); err != nil {
		return err
	}
	cloud, credential, err := h.Cloud(ctx)
	if err != nil || cloud == nil {
		return err
	}
	letters, err := cloud.Letters(ctx, credential)
	if err != nil {
		return err
	}
	r := run{Household: h, cloud: cloud, credential: credential, known: Known(people(entries))}
	var has bool
	if r.own, has = h.identity(); has {
		r.public = r.own.Public()
	}
	var errs []error
	for _, e := range entries {
		p, m, ok := personOf(e)
		if !ok || m.Device != h.Device {
			continue
		}
		if !has { // only a device that needs them makes them; they are in force once they are committed
			return h.makeIdentity(ctx)
		}
		errs = append(errs, r.meet(ctx, p, m))
	}
	for _, e := range entries {
		if n, ok := noteOf(e); ok && n.Mine && n.Seen.IsZero() {
			errs = append(errs, r.hand(ctx, n, entries))
		}
	}
	for _, l := range letters {
		errs = append(errs, r.take(ctx, l, entries))
	}
	return errors.Join(errs...)
}

// side is this device's side of a meeting, kept on it alone.
type side struct {
	Asks    *share.Asker    `json:"asks,omitempty"`
	Answers *share.Answerer `json:"answers,omitempty"`
	Sent    bool            `json:"sent,omitempty"` // its first message was handed over
	Done    bool            `json:"done,omitempty"` // nothing more is to be said
}

func localSide(meeting string) string { return "meeting " + meeting }

func (r run) side(ctx context.Context, id string) (s side, err error) {
	return s, r.Set.Local.GetJSON(ctx, localSide(id), &s)
}

func (r run) keepSide(ctx context.Context, id string, s side) error {
	return r.Set.Local.SetJSON(ctx, localSide(id), s)
}

// LetterID is the id under which a meeting's second or third message travels, or a note by the id of its entry.
func LetterID(of, kind string) string { return entryID("letter "+kind, of) }

// meet does what is next in a meeting that this device runs.
func (r run) meet(ctx context.Context, p Person, m meeting) error {
	s, err := r.side(ctx, p.ID)
	if err != nil || s.Done {
		return err
	}
	if s.Asks != nil && !s.Asks.Own.Equal(r.public) || s.Answers != nil && !s.Answers.Own.Equal(r.public) {
		return r.anew(ctx, p) // another device gave the owner other keys
	}
	name, _ := r.Owner()
	if s.Asks == nil && s.Answers == nil {
		switch {
		case p.State == Asked:
			s.Asks, err = share.NewAsker(r.Rand, p.meeting, r.public)
		case p.State == Answered && m.Offer != nil:
			s.Answers, err = share.NewAnswerer(r.Rand, *m.Offer, r.public)
		default: // what this device kept of it is gone
			return nil
		}
		if err == nil {
			err = r.keepSide(ctx, p.ID, s)
		}
		if err != nil {
			return err
		}
	}
	if !s.Sent {
		if s.Asks != nil {
			err = r.send(ctx, p.meeting, wire.LetterOffer, p.Email, s.Asks.Offer(name))
		} else {
			id := LetterID(p.meeting, wire.LetterAnswer)
			err = r.send(ctx, id, wire.LetterAnswer, p.Email, s.Answers.Answer(name))
		}
		if err != nil {
			return err
		}
		s.Sent = true
		if err := r.keepSide(ctx, p.ID, s); err != nil {
			return err
		}
	}
	return r.conclude(ctx, p, s)
}

// anew drops a meeting, and asks again where the owner had asked.
func (r run) anew(ctx context.Context, p Person) error {
	_ = r.cloud.TakeLetterBack(ctx, r.credential, p.meeting, p.Email) // it is refused by nobody, and answered in vain
	return r.change(ctx, func(list []vault.Entry, by vault.Stamp) (out []vault.Entry, err error) {
		out, err = discarded(list, by, func(e vault.Entry) bool { return e.ID == p.ID })
		if err != nil || p.State != Asked || len(out) == 0 {
			return out, err
		}
		e, err := beginning(p.Email, p.Name, by, meeting{ID: records.NewID(), Mine: true, Device: r.Device})
		return append(out, e), err
	})
}

// conclude shows the words once both sides have said what they drew. The side that asked says so first, to whom it
// took the answer from and to nobody else.
func (r run) conclude(ctx context.Context, p Person, s side) error {
	var words []string
	var theirs keys.PublicIdentity
	calls := ""
	switch {
	case s.Asks != nil && s.Asks.Answer != nil:
		reveal, _ := s.Asks.Reveal()
		if err := r.send(ctx, LetterID(p.meeting, wire.LetterReveal), wire.LetterReveal, p.Email, reveal); err != nil {
			return err
		}
		words, theirs, calls = s.Asks.Words(), s.Asks.Answer.Keys, s.Asks.Answer.Name
	case s.Answers != nil && s.Answers.Reveal != nil:
		words, theirs, calls = s.Answers.Words(), s.Answers.Offer.Keys, s.Answers.Offer.Name
	default:
		return nil
	}
	b, err := json.Marshal(theirs)
	if err != nil {
		return err
	}
	err = r.edit(ctx, p.ID, func(p Person, m meeting) (vault.Changes, error) {
		if len(m.Words) > 0 {
			return nil, nil
		}
		m.Words, m.Calls, m.Offer = words, calls, nil
		c := vault.Changes{vault.FieldKeys: string(b)}
		return c, m.put(c)
	})
	if err != nil {
		return err
	}
	s.Done = true
	return r.keepSide(ctx, p.ID, s)
}

// send hands a message of a meeting over.
func (r run) send(ctx context.Context, id, kind, to string, message any) error {
	b, err := json.Marshal(message)
	if err != nil {
		return err
	}
	name, _ := r.Owner()
	return r.cloud.PutLetter(ctx, r.credential, id, wire.NewLetter{
		To: to, Kind: kind, First: share.FirstName(name), Body: b,
	})
}

// hand hands a note over. What went with it is kept no longer than that.
func (r run) hand(ctx context.Context, n Note, entries []vault.Entry) error {
	p, err := find(entries, n.Peer)
	if err != nil || p.State != Checked || p.Paused {
		return nil // it waits, or is gone with them
	}
	if now, err := r.Note(n.ID); err != nil || !now.Seen.IsZero() || !r.Now().Before(now.Until) {
		return nil //nolint:nilerr // it was taken back meanwhile, or handed over by another device
	}
	for _, f := range n.Files {
		var b bytes.Buffer
		if err := r.Set.Files.Read(ctx, f, &b); err != nil {
			return err
		}
		n.note.Files = append(n.note.Files, share.File{Name: f.Name, Size: b.Len(), Data: b.Bytes()})
	}
	letter := LetterID(n.ID, wire.LetterNote)
	sealed, err := n.note.Seal(r.own, p.Keys, letter)
	if err != nil {
		return err
	}
	name, _ := r.Owner()
	err = r.cloud.PutLetter(ctx, r.credential, letter, wire.NewLetter{
		To: p.Email, Kind: wire.LetterNote, First: share.FirstName(name), Body: sealed,
	})
	if errors.Is(err, syncing.ErrManyLetters) { // it goes once there is room
		return nil
	}
	if err != nil {
		return err
	}
	c := vault.Changes{vault.FieldRead: strconv.FormatInt(r.Now().UnixMilli(), 10)}
	n.note.Thing, n.note.Files = nil, nil
	if err := putNote(c, n.note); err != nil {
		return err
	}
	return r.editNote(ctx, n.ID, c)
}

// take takes one letter. One that can be used by nobody is dropped at the cloud; one that somebody else has to do
// something about first stays there.
func (r run) take(ctx context.Context, l wire.Letter, entries []vault.Entry) error {
	if uuid.Validate(l.ID) != nil {
		return nil
	}
	kept := map[string]string{wire.LetterOffer: "peer", wire.LetterNote: "passed"}[l.Kind]
	if id := entryID(kept, l.ID); slices.ContainsFunc(entries, func(e vault.Entry) bool { return e.ID == id }) {
		return r.cloud.RemoveLetter(ctx, r.credential, l.ID) // it is committed
	}
	if r.looked.At(l.ID, r.known) {
		return nil
	}
	full, err := r.cloud.Letter(ctx, r.credential, l.ID)
	if errors.Is(err, syncing.ErrOver) { // another device has taken it
		return nil
	}
	if err != nil {
		return err
	}
	drop := false
	switch l.Kind {
	case wire.LetterOffer:
		drop, err = r.takeOffer(ctx, l.ID, full)
	case wire.LetterAnswer, wire.LetterReveal:
		drop, err = r.takeMessage(ctx, l.Kind, full, entries)
	case wire.LetterNote:
		drop, err = r.takeNote(ctx, l.ID, full, entries)
	}
	switch {
	case err != nil:
		return err
	case drop:
		return r.cloud.RemoveLetter(ctx, r.credential, l.ID)
	}
	r.looked.Note(l.ID, r.known)
	return nil
}

// takeOffer notes that somebody asks. Two who ask each other meet once: in the meeting whose id comes first.
func (r run) takeOffer(ctx context.Context, id string, l wire.Letter) (drop bool, err error) {
	var o share.Offer
	email := l.From
	bad := json.Unmarshal(l.Body, &o)
	if bad == nil {
		bad = o.Check(r.public)
	}
	if address, err := cleanEmail(email); err != nil || address != email { // whatever a cloud says it is
		return true, nil //nolint:nilerr // nobody could be asked
	}
	if _, own := r.Owner(); bad != nil || o.Meeting != id || email == own {
		return true, nil
	}
	o.Name = share.CleanName(o.Name)
	err = r.change(ctx, func(list []vault.Entry, by vault.Stamp) (out []vault.Entry, err error) {
		drop, out = false, nil
		asking := 0
		m := meeting{ID: id, Offer: &o, Calls: o.Name}
		name := ""
		for _, e := range list {
			p, pm, ok := personOf(e)
			switch {
			case e.ID == entryID("peer", id):
				return nil, nil
			case !ok:
				continue
			case p.State == Asks:
				asking++
			case p.Email == email && p.State == Asked && p.meeting < id:
				drop = true
				return nil, nil
			case p.Email == email && p.State == Asked:
				m.Device, name = pm.Device, p.Name
				old, err := e.Discard(by)
				if err != nil {
					return nil, err
				}
				out = append(out, old)
			}
		}
		if asking >= mostAsking {
			return nil, nil // it waits at the cloud
		}
		e, err := beginning(email, name, by, m)
		return append(out, e), err
	})
	return drop, err
}

// takeMessage takes the second or third message of a meeting that this device runs.
func (r run) takeMessage(
	ctx context.Context, kind string, l wire.Letter, entries []vault.Entry,
) (drop bool, err error) {
	var about struct {
		Meeting string `json:"meeting"`
	}
	if json.Unmarshal(l.Body, &about) != nil || LetterID(about.Meeting, kind) != l.ID {
		return true, nil
	}
	id := entryID("peer", about.Meeting)
	i := slices.IndexFunc(entries, func(e vault.Entry) bool { return e.ID == id })
	if i < 0 {
		return false, nil // it may be yet to come here
	}
	p, m, ok := personOf(entries[i])
	if !ok {
		return true, nil
	}
	if m.Device != r.Device {
		return false, nil
	}
	s, err := r.side(ctx, p.ID)
	if err != nil {
		return false, err
	}
	var bad error
	switch {
	case kind == wire.LetterAnswer && s.Asks != nil:
		var a share.Answer
		if bad = json.Unmarshal(l.Body, &a); bad == nil {
			bad = s.Asks.Take(a)
		}
	case kind == wire.LetterReveal && s.Answers != nil:
		var v share.Reveal
		if bad = json.Unmarshal(l.Body, &v); bad == nil {
			bad = s.Answers.Take(v)
		}
	default:
		return true, nil
	}
	if bad != nil {
		return true, nil
	}
	if err := r.keepSide(ctx, p.ID, s); err != nil { // before anything more is said
		return false, err
	}
	return true, r.conclude(ctx, p, s)
}

// takeNote takes a note of somebody who was checked. One of somebody who wasn't waits at the cloud until they are.
func (r run) takeNote(ctx context.Context, id string, l wire.Letter, entries []vault.Entry) (drop bool, err error) {
	if len(r.public.Sign) == 0 {
		return true, nil // nobody can have sealed it
	}
	n, from, err := share.OpenNote(r.own, id, l.Body, r.Now())
	if err != nil {
		return true, nil //nolint:nilerr // nobody can open it, or it is over
	}
	known := people(entries)
	i := slices.IndexFunc(known, func(p Person) bool {
		return p.State == Checked && string(p.Keys.Sign) == string(from)
	})
	if i < 0 {
		return false, nil
	}
	c := vault.Changes{vault.FieldPeer: known[i].ID, vault.FieldWay: wayIn}
	if n.Thing != nil {
		e, err := n.Thing.Entry(id, vault.Stamp{})
		if err != nil {
			return true, nil //nolint:nilerr // nobody can read it
		}
		c[vault.FieldTitle] = e.Text(vault.FieldTitle)
	}
	files := n.Files
	n.Files = nil
	if err := putNote(c, n); err != nil {
		return false, err
	}
	for i, f := range files {
		fileID := entryID("passed file "+strconv.Itoa(i), id)
		kept, full := r.Set.Files.SealAs(ctx, fileID, f.Name, bytes.NewReader(f.Data))
		if full != nil {
			return false, full
		}
		defer func() { r.Set.Files.Restored(ctx, fileID, err != nil) }()
		c[vault.FileField(fileID)] = kept
	}
	return false, r.change(ctx, func(list []vault.Entry, by vault.Stamp) ([]vault.Entry, error) {
		own := entryID("passed", id)
		if slices.ContainsFunc(list, func(e vault.Entry) bool { return e.ID == own }) {
			return nil, nil
		}
		e, err := vault.New(own, vault.TypePassed, by, c)
		return []vault.Entry{e}, err
	})
}

// expire drops notes after their week, and requests that nobody answered.
func (h *Household) expire(ctx context.Context) error {
	over := func(e vault.Entry) bool {
		if n, ok := noteOf(e); ok {
			return !h.Now().Before(n.Until)
		}
		p, _, ok := personOf(e)
		return ok && p.State == Asks && h.Now().Sub(p.Since) > askingFor
	}
	list, err := h.Set.Book.Entries(func(e vault.Entry) bool { return isOurs(e) && over(e) })
	if err != nil || len(list) == 0 {
		return err
	}
	return h.change(ctx, func(list []vault.Entry, by vault.Stamp) ([]vault.Entry, error) {
		return discarded(list, by, over)
	})
}
