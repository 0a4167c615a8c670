package share

import (
	"bytes"
	"encoding/json"
	"errors"
	"time"
	"unicode/utf8"

	"redlocket/core/keys"
)

// NoteLife is how long a note that was passed stays, on both sides and with the cloud.
const NoteLife = 7 * 24 * time.Hour

// clockSlack is by how much two people's clocks may differ.
const clockSlack = 24 * time.Hour

// Limits of a note.
const (
	MaxText  = 4000     // characters
	MaxThing = 64 << 10 // bytes of the thing that goes with it
	MaxFiles = 20       // that go with it
	MaxBytes = 3 << 20  // of all of these together
)

// The errors of a note.
var (
	ErrNote = errors.New("the note can’t be read")
	ErrPast = errors.New("the note is older than a week")
)

// Note is what one person passes to another.
type Note struct {
	At    int64  `json:"at"` // when it was written, in milliseconds since 1970
	Text  string `json:"text,omitempty"`
	Thing *Thing `json:"thing,omitempty"`
	Files []File `json:"files,omitempty"`
}

// File is a file that goes with a note. Its bytes stand behind the note's JSON.
type File struct {
	Name string `json:"name"`
	Size int    `json:"size"` // bytes
	Data []byte `json:"-"`
}

// Check returns an error for a note that holds nothing, or too much. now is the reader's time.
func (n Note) Check(now time.Time) error {
	at := time.UnixMilli(n.At)
	switch {
	case n.Text == "" && n.Thing == nil && len(n.Files) == 0:
		return ErrNote
	case utf8.RuneCountInString(n.Text) > MaxText || !utf8.ValidString(n.Text):
		return ErrNote
	case at.After(now.Add(clockSlack)):
		return ErrNote
	case now.Sub(at) > NoteLife+clockSlack:
		return ErrPast
	}
	size := 0
	for _, f := range n.Files {
		if size += f.Size; f.Name == "" || f.Size < 0 || f.Size != len(f.Data) || size > MaxBytes {
			return ErrNote
		}
	}
	if len(n.Files) > MaxFiles {
		return ErrNote
	}
	if n.Thing != nil {
		return n.Thing.check()
	}
	return nil
}

// Seal seals a note from one person to another, under an id that is used for no other.
func (n Note) Seal(from keys.Identity, to keys.PublicIdentity, id string) ([]byte, error) {
	b, err := json.Marshal(n)
	if err != nil {
		return nil, err
	}
	if len(n.Files) > 0 {
		b = append(b, 0) // JSON has none
	}
	for _, f := range n.Files {
		b = append(b, f.Data...)
	}
	return from.SealLetter(to, id, b)
}

// OpenNote opens a note that was sealed to own. from is the public key that signed it: it is for the caller to know
// whose that is. The error is [keys.ErrOpen], [ErrNote] or [ErrPast].
func OpenNote(own keys.Identity, id string, sealed []byte, now time.Time) (n Note, from []byte, err error) {
	l, err := own.OpenLetter(id, sealed)
	if err != nil {
		return n, nil, err
	}
	text, data, _ := bytes.Cut(l.Plain, []byte{0})
	if json.Unmarshal(text, &n) != nil {
		return Note{}, l.From, ErrNote
	}
	for i, f := range n.Files {
		if f.Size < 0 || f.Size > len(data) {
			return Note{}, l.From, ErrNote
		}
		n.Files[i].Data, data = data[:f.Size], data[f.Size:]
	}
	if len(data) > 0 {
		return Note{}, l.From, ErrNote
	}
	return n, l.From, n.Check(now)
}
