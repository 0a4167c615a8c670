package household

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"time"

	"redlocket/app/reauth"
	"redlocket/app/records"
	"redlocket/core/share"
	"redlocket/core/vault"
	"redlocket/core/wire"
)

// Note is what was passed between the owner and somebody else.
type Note struct {
	ID    string
	Peer  string // whom it is from, or for
	Mine  bool   // the owner wrote it
	Title string // of the thing that goes with it; empty for none
	Kind  vault.Type
	At    time.Time
	Until time.Time // when it is gone by itself
	Seen  time.Time // when it was opened first, or handed over; zero if it wasn't
	Kept  string    // id of the item that was made of the thing
	Files []vault.File

	note share.Note
}

// Unread reports a note that somebody else wrote and the owner hasn't opened.
func (n Note) Unread() bool { return !n.Mine && n.Seen.IsZero() }

// Length is the number of characters of the text.
func (n Note) Length() int { return len([]rune(n.note.Text)) }

// HasThing reports whether something goes with it that can be kept.
func (n Note) HasThing() bool { return n.note.Thing != nil || len(n.Files) > 0 }

func noteOf(e vault.Entry) (n Note, ok bool) {
	if e.Type != vault.TypePassed || e.Purged() || json.Unmarshal([]byte(e.Text(vault.FieldNote)), &n.note) != nil {
		return n, false
	}
	n.Files = e.Files()
	n.ID, n.Peer, n.Mine = e.ID, e.Text(vault.FieldPeer), e.Text(vault.FieldWay) == wayOut
	n.Title = e.Text(vault.FieldTitle)
	if n.note.Thing != nil {
		n.Kind = n.note.Thing.Type
	}
	n.At = time.UnixMilli(n.note.At)
	n.Until = n.At.Add(share.NoteLife)
	if ms, err := strconv.ParseInt(e.Text(vault.FieldRead), 10, 64); err == nil {
		n.Seen = time.UnixMilli(ms)
	}
	if !n.Mine {
		n.Kept = e.Text(vault.FieldSource)
	}
	return n, true
}

const (
	wayIn  = "in"
	wayOut = "out"
)

// The errors of notes.
var (
	ErrNoNote        = errors.New("this note isn’t here any more: notes are gone after a week")
	errEmptyNote     = errors.New("write something, or choose what to pass")
	errLongNote      = errors.New("a note has 4,000 characters at most")
	errLeftOut       = errors.New("this is left out under the second passphrase: have it shown first")
	ErrLargeFiles    = fmt.Errorf("its files are larger than %d MB together: pass it without them", share.MaxBytes>>20)
	ErrLargeAttached = fmt.Errorf("files of up to %d MB together go with a note", share.MaxBytes>>20)
	errManyFiles     = fmt.Errorf("%d files go with a note at most", share.MaxFiles)
	errNothing       = errors.New("nothing goes with this note that could be kept")
)

// Notes returns what was passed between the owner and a person, the oldest first.
func (h *Household) Notes(person string) ([]Note, error) {
	list, err := h.entries()
	if err != nil {
		return nil, err
	}
	var out []Note
	for _, e := range list {
		if n, ok := noteOf(e); ok && n.Peer == person {
			out = append(out, n)
		}
	}
	slices.SortFunc(out, func(a, b Note) int { return cmp.Or(a.At.Compare(b.At), cmp.Compare(a.ID, b.ID)) })
	return out, nil
}

// Passing is what is passed: a few words, a copy of an item, files, or some of these.
type Passing struct {
	Text     string
	Item     string // its id; empty for none
	Files    bool   // with the item's files
	Attached []Attached
}

// Attached is a file that goes with a note by itself.
type Attached struct {
	Name string
	Data []byte
}

// checkAttached reports whether files can go with a note.
func checkAttached(files []Attached) error {
	size := 0
	for _, f := range files {
		size += len(f.Data)
	}
	switch {
	case len(files) > share.MaxFiles:
		return records.BadInput("files", errManyFiles)
	case size > share.MaxBytes:
		return records.BadInput("files", ErrLargeAttached)
	}
	return nil
}

// seal seals files that go with a note; done ends that, once the note is written or can't be.
func (h *Household) seal(
	ctx context.Context, files []Attached, c vault.Changes,
) (done func(failed bool), err error) {
	var sealed []string
	done = func(failed bool) {
		for _, id := range sealed {
			h.Set.Files.Restored(ctx, id, failed)
		}
	}
	for _, f := range files {
		kept, err := h.Set.Files.Seal(ctx, f.Name, bytes.NewReader(f.Data))
		if err != nil {
			done(true)
			return nil, records.BadInput("files", err)
		}
		sealed = append(sealed, kept.ID)
		c[vault.FileField(kept.ID)] = kept
	}
	return done, nil
}

// after is the moment of a note that is written now, in milliseconds since 1970: after the one before it, as both sides
// list notes by their moment, and two can fall into one of the clock's, or it was set back a little.
func (h *Household) after(person string) int64 {
	at := h.Now().UnixMilli()
	notes, err := h.Notes(person)
	if err != nil {
		return at
	}
	for _, n := range notes {
		if last := n.At.UnixMilli(); n.Mine && last >= at && last < at+1000 {
			at = last + 1
		}
	}
	return at
}

// Pass passes something to somebody who was checked. It goes when the cloud is there. An item takes the master password
// where the owner wants to be asked before a password is shown.
func (h *Household) Pass(ctx context.Context, person string, what Passing) (id string, err error) {
	text, item := what.Text, what.Item
	n := share.Note{Text: text, At: h.after(person)}
	c := vault.Changes{vault.FieldPeer: person, vault.FieldWay: wayOut}
	switch {
	case text == "" && item == "" && len(what.Attached) == 0:
		return "", records.BadInput("text", errEmptyNote)
	case len([]rune(text)) > share.MaxText:
		return "", records.BadInput("text", errLongNote)
	case item != "":
		if err := h.Guard.Require(reauth.Show); err != nil {
			return "", err
		}
		if h.Set.Cover.Has(item) {
			return "", records.BadInput("item", errLeftOut)
		}
		e, err := h.Set.Items.Entry(item)
		if err != nil {
			return "", records.BadInput("item", err)
		}
		if !h.Set.Items.Right(e).Includes(share.See) {
			return "", records.BadInput("item", records.ErrNotToSee)
		}
		thing, err := share.ThingOf(e)
		if err != nil {
			return "", records.BadInput("item", err)
		}
		n.Thing, c[vault.FieldTitle], c[vault.FieldSource] = &thing, e.Text(vault.FieldTitle), item
		if what.Files {
			if !PassesFiles(e.Files()) {
				return "", records.BadInput("item", ErrLargeFiles)
			}
			for _, f := range e.Files() {
				c[vault.FileField(f.ID)] = f
			}
		}
	}
	if err := errors.Join(putNote(c, n), checkAttached(what.Attached)); err != nil {
		return "", err
	}
	done, err := h.seal(ctx, what.Attached, c)
	if err != nil {
		return "", err
	}
	defer func() { done(err != nil) }()
	id = records.NewID()
	err = h.change(ctx, func(list []vault.Entry, by vault.Stamp) ([]vault.Entry, error) {
		switch p, err := find(list, person); {
		case err != nil:
			return nil, err
		case p.State != Checked:
			return nil, errNotYet
		case p.Paused:
			return nil, errPaused
		}
		e, err := vault.New(id, vault.TypePassed, by, c)
		return []vault.Entry{e}, err
	})
	return id, err
}

// PassesFiles reports whether some files can go with a note.
func PassesFiles(files []vault.File) bool {
	size := int64(0)
	for _, f := range files {
		size += f.Size
	}
	return len(files) <= share.MaxFiles && size <= share.MaxBytes
}

func putNote(c vault.Changes, n share.Note) error {
	b, err := json.Marshal(n)
	c[vault.FieldNote] = string(b)
	return err
}

// Read opens a note: its text, and the thing that goes with it as an entry that nobody keeps, or the zero one. It takes
// the master password where the owner wants to be asked before a password is shown.
func (h *Household) Read(ctx context.Context, id string) (text string, thing vault.Entry, err error) {
	n, err := h.Note(id)
	if err != nil {
		return "", thing, err
	}
	if err := h.Guard.Require(reauth.Show); err != nil {
		return "", thing, err
	}
	if n.note.Thing != nil {
		if thing, err = n.note.Thing.Entry(id, vault.Stamp{At: n.note.At}); err != nil {
			return "", thing, err
		}
	}
	if n.Unread() {
		err = h.editNote(ctx, id, vault.Changes{vault.FieldRead: strconv.FormatInt(h.Now().UnixMilli(), 10)})
	}
	return n.note.Text, thing, err
}

// Note returns one. The error is ErrNoNote.
func (h *Household) Note(id string) (Note, error) {
	e, err := h.Set.Items.Entry(id)
	if errors.Is(err, records.ErrNoItem) {
		return Note{}, ErrNoNote
	}
	if err != nil {
		return Note{}, err
	}
	n, ok := noteOf(e)
	if !ok {
		return n, ErrNoNote
	}
	return n, nil
}

func (h *Household) editNote(ctx context.Context, id string, c vault.Changes) error {
	err := h.Set.Items.Edit(ctx, id, func(e vault.Entry, by vault.Stamp) (vault.Entry, error) {
		if e.Purged() {
			return e, ErrNoNote
		}
		return e.With(by, c)
	})
	if err == nil {
		h.Changed()
	}
	return err
}

// Keep makes an item of one's own of the thing that goes with a note, or of its text where nothing does. Kept twice it
// is one item. The note goes after its week all the same.
func (h *Household) Keep(ctx context.Context, id string) (item string, err error) {
	n, err := h.Note(id)
	if err != nil {
		return "", err
	}
	if n.Kept != "" {
		if _, err := h.Set.Items.Entry(n.Kept); err == nil {
			return n.Kept, nil
		}
	}
	by := h.Set.Items.Stamp()
	item = records.NewID()
	var e vault.Entry
	switch {
	case n.note.Thing != nil:
		e, err = n.note.Thing.Entry(item, by)
	case n.note.Text != "" || len(n.Files) > 0:
		e, err = vault.New(item, vault.TypeNote, by, vault.Changes{
			vault.FieldTitle: h.noteTitle(n), vault.FieldNotes: n.note.Text,
		})
	default:
		err = errNothing
	}
	if err != nil {
		return "", err
	}
	files := vault.Changes{}
	for _, f := range n.Files {
		files[vault.FileField(f.ID)] = f
	}
	if e, err = e.With(by, files); err != nil {
		return "", err
	}
	err = h.Set.Items.SaveMany(ctx, func(all map[string]vault.Entry) ([]vault.Entry, error) {
		note, ok := all[id]
		if !ok || note.Purged() {
			return nil, ErrNoNote
		}
		c := vault.Changes{vault.FieldSource: item}
		if n.Unread() {
			c[vault.FieldRead] = strconv.FormatInt(by.At, 10)
		}
		note, err := note.With(by, c)
		return []vault.Entry{e, note}, err
	}, nil)
	h.Changed()
	return item, err
}

func (h *Household) noteTitle(n Note) string {
	p, err := h.Person(n.Peer)
	if err != nil || n.Mine {
		return "A note of mine"
	}
	return "A note from " + p.Name
}

// Forget deletes a note before its week is over, on the owner's devices. One that the owner passed is taken back if the
// other one hasn't fetched it yet.
func (h *Household) Forget(ctx context.Context, id string) error {
	n, err := h.Note(id)
	if err != nil {
		return err
	}
	if err := h.Set.Items.Edit(ctx, id, vault.Entry.Discard); err != nil {
		return err
	}
	h.Changed()
	if p, err := h.Person(n.Peer); err == nil && n.Mine {
		h.takeBack(ctx, p.Email, LetterID(id, wire.LetterNote))
	}
	return nil
}

// Unread returns the notes that somebody else wrote and the owner hasn't opened, the newest first.
func (h *Household) Unread() ([]Note, error) {
	list, err := h.entries()
	if err != nil {
		return nil, err
	}
	var out []Note
	for _, e := range list {
		if n, ok := noteOf(e); ok && n.Unread() {
			out = append(out, n)
		}
	}
	slices.SortFunc(out, func(a, b Note) int { return b.At.Compare(a.At) })
	return out, nil
}
