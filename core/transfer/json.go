package transfer

import (
	"bufio"
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math"
	"time"
	"unicode/utf8"

	"redlocket/core/vault"
)

// The JSON format is described by docs/export.schema.json and docs/format.md.
const (
	jsonFormat  = "redlocket items"
	jsonVersion = 1
)

// The limits on what is read: far above what a vault holds, so that a broken or
// hostile file can't make a device hold more.
const (
	MaxBytes = 50 << 20 // of a file
	MaxItems = 250000   // of a file
	maxDepth = 64       // of nested JSON
)

// Errors of reading a file.
var (
	ErrTooLarge = errors.New("the file is larger than MaxBytes")
	ErrTooMany  = errors.New("the file has more than MaxItems items")
	ErrNotOurs  = errors.New("not an export of items")
	ErrNewer    = errors.New("written by a newer version")
	ErrTooDeep  = errors.New("nested too deeply")
	ErrBadJSON  = errors.New("not well-formed JSON")
	ErrNoKind   = errors.New("an item without a kind")
)

// Export is what a JSON file holds.
type Export struct {
	Made    int64             // milliseconds since 1970
	Devices map[string]string // names of the devices that stamps name, by id
	Entries []vault.Entry
}

type jsonRegister struct {
	Value json.RawMessage `json:"value"`
	Set   jsonTime        `json:"set,omitzero"`
	By    string          `json:"by,omitempty"`
}

type jsonPast struct {
	Field vault.Field     `json:"field"`
	Value json.RawMessage `json:"value"`
	Set   jsonTime        `json:"set,omitzero"`
	By    string          `json:"by,omitempty"`
	Until jsonTime        `json:"until,omitzero"`
}

type jsonItem struct {
	ID      string                       `json:"id"`
	Kind    vault.Type                   `json:"kind"`
	Made    vault.Type                   `json:"made-as,omitempty"` // if its user changed the kind
	Created jsonTime                     `json:"created,omitzero"`
	Fields  map[vault.Field]jsonRegister `json:"fields"`
	History []jsonPast                   `json:"history,omitempty"`
	Other   map[string]json.RawMessage   `json:"other,omitempty"`
}

// jsonTime is a moment in milliseconds since 1970, written as RFC 3339 in UTC;
// one that RFC 3339 can't say is written as the number.
type jsonTime int64

const lastTime = 253402300799999 // the end of the year 9999

func (t jsonTime) MarshalJSON() ([]byte, error) {
	if t < 0 || t > lastTime {
		return json.Marshal(int64(t))
	}
	return json.Marshal(time.UnixMilli(int64(t)).UTC().Format("2006-01-02T15:04:05.000Z"))
}

func (t *jsonTime) UnmarshalJSON(b []byte) error {
	if len(b) > 0 && b[0] != '"' {
		return json.Unmarshal(b, (*int64)(t))
	}
	var s string
	if err := json.Unmarshal(b, &s); err != nil || s == "" {
		return err
	}
	at, err := time.Parse(time.RFC3339Nano, s)
	*t = jsonTime(at.UnixMilli())
	return err
}

// WriteJSON writes entries with all they hold, in clear: one item a line. No more
// than one of them is held in memory.
func WriteJSON(w io.Writer, x Export) error {
	out := bufio.NewWriter(w)
	devices := x.Devices
	if devices == nil {
		devices = map[string]string{}
	}
	head, err := plainJSON(struct {
		Format  string            `json:"format"`
		Version int               `json:"version"`
		Made    jsonTime          `json:"exported"`
		Devices map[string]string `json:"devices"`
	}{jsonFormat, jsonVersion, jsonTime(x.Made), devices})
	if err != nil {
		return err
	}
	_, _ = out.Write(head[:len(head)-1])
	_, _ = out.WriteString(",\"items\":[\n")
	for i, e := range x.Entries {
		b, err := plainJSON(toJSON(e))
		if err != nil {
			return fmt.Errorf("failed to write item %s: %w", e.ID, err)
		}
		if i > 0 {
			_, _ = out.WriteString(",\n")
		}
		_, _ = out.Write(b)
	}
	_, _ = out.WriteString("\n]}\n")
	if err := out.Flush(); err != nil {
		return fmt.Errorf("failed to write the items: %w", err)
	}
	return nil
}

// plainJSON is JSON without the escapes that only HTML needs.
func plainJSON(v any) ([]byte, error) {
	var b bytes.Buffer
	enc := json.NewEncoder(&b)
	enc.SetEscapeHTML(false)
	err := enc.Encode(v)
	return bytes.TrimSuffix(b.Bytes(), []byte("\n")), err
}

func toJSON(e vault.Entry) jsonItem {
	it := jsonItem{
		ID:      e.ID,
		Kind:    e.Kind(),
		Created: jsonTime(e.Created),
		Fields:  make(map[vault.Field]jsonRegister, len(e.Fields)),
		Other:   e.Extra,
	}
	if it.Kind != e.Type {
		it.Made = e.Type
	}
	for f, r := range e.Fields {
		it.Fields[f] = jsonRegister{json.RawMessage(r.Value.Reveal()), jsonTime(r.Stamp.At), r.Stamp.By}
	}
	for _, p := range e.Past {
		it.History = append(
			it.History,
			jsonPast{p.Field, json.RawMessage(p.Value.Reveal()), jsonTime(p.From.At), p.From.By, jsonTime(p.Until)},
		)
	}
	return it
}

// ReadJSON reads what [WriteJSON] wrote, in this or an earlier version, or what
// somebody wrote by hand after its schema.
func ReadJSON(b []byte) (Export, error) {
	if len(b) > MaxBytes {
		return Export{}, ErrTooLarge
	}
	return readItems(b, MaxItems)
}

// ReadBackup is [ReadJSON] for what the program sealed itself: without limits.
func ReadBackup(b []byte) (Export, error) { return readItems(b, math.MaxInt) }

func readItems(b []byte, most int) (Export, error) {
	b = bytes.TrimPrefix(b, []byte("\xef\xbb\xbf"))
	if !utf8.Valid(b) {
		return Export{}, ErrBinary
	}
	if depth(b) > maxDepth {
		return Export{}, ErrTooDeep
	}
	var is struct {
		Format string `json:"format"`
	}
	if err := json.Unmarshal(b, &is); err != nil {
		return Export{}, fmt.Errorf("%w: %w", ErrBadJSON, err)
	}
	if is.Format != jsonFormat {
		return Export{}, ErrNotOurs
	}
	var file struct {
		Version int               `json:"version"`
		Made    jsonTime          `json:"exported"`
		Devices map[string]string `json:"devices"`
		Items   []json.RawMessage `json:"items"`
	}
	if err := json.Unmarshal(b, &file); err != nil {
		return Export{}, fmt.Errorf("%w: %w", ErrBadJSON, err)
	}
	switch {
	case file.Version > jsonVersion:
		return Export{}, ErrNewer
	case len(file.Items) > most:
		return Export{}, ErrTooMany
	}
	x := Export{Made: int64(file.Made), Devices: file.Devices, Entries: make([]vault.Entry, 0, len(file.Items))}
	for i, raw := range file.Items {
		e, err := fromJSON(raw)
		if err != nil {
			return Export{}, &ItemError{i + 1, err}
		}
		x.Entries = append(x.Entries, e)
	}
	return x, nil
}

// ItemError says which item of a file, from 1, can't be read.
type ItemError struct {
	Number int
	Err    error
}

func (e *ItemError) Error() string { return fmt.Sprintf("item %d: %v", e.Number, e.Err) }
func (e *ItemError) Unwrap() error { return e.Err }

func fromJSON(raw json.RawMessage) (vault.Entry, error) {
	var it jsonItem
	if err := json.Unmarshal(raw, &it); err != nil {
		return vault.Entry{}, err
	}
	if it.Kind == "" {
		return vault.Entry{}, ErrNoKind
	}
	e := vault.Entry{
		ID:      it.ID,
		Type:    it.Kind,
		Created: int64(it.Created),
		Fields:  make(map[vault.Field]vault.Register, len(it.Fields)),
		Extra:   it.Other,
	}
	if it.Made != "" {
		e.Type = it.Made
	}
	for f, r := range it.Fields {
		text, err := vault.Canonical(r.Value)
		if err != nil {
			return e, fmt.Errorf("field %s: %w", f, err)
		}
		e.Fields[f] = vault.Register{Value: text, Stamp: stampOf(r.Set, r.By)}
	}
	var past []vault.Past
	for _, p := range it.History {
		text, err := vault.Canonical(p.Value)
		if err != nil {
			return e, fmt.Errorf("the history of field %s: %w", p.Field, err)
		}
		past = append(past, vault.Past{Field: p.Field, Value: text, From: stampOf(p.Set, p.By), Until: int64(p.Until)})
	}
	e.Past = vault.JoinPast(nil, past)
	for k, v := range e.Extra {
		text, err := vault.Canonical(v)
		if err != nil {
			return e, fmt.Errorf("its %s: %w", k, err)
		}
		e.Extra[k] = json.RawMessage(text.Reveal())
	}
	return e, nil
}

// Unknown is the moment of a value of which nobody knows when it was set: before
// every other.
const Unknown = 1

func stampOf(at jsonTime, by string) vault.Stamp {
	if at == 0 && by == "" {
		at = Unknown
	}
	return vault.Stamp{At: int64(at), By: by}
}

// depth is how deep brackets are nested in JSON; what isn't JSON gets some number.
func depth(b []byte) int {
	most, now, quoted := 0, 0, false
	for i := 0; i < len(b); i++ {
		switch c := b[i]; {
		case quoted && c == '\\':
			i++
		case c == '"':
			quoted = !quoted
		case quoted:
		case c == '[' || c == '{':
			now++
			most = max(most, now)
		case c == ']' || c == '}':
			now--
		}
	}
	return most
}
