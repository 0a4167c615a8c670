package transfer

import (
	"bytes"
	"encoding/json"
	"fmt"
	"reflect"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"redlocket/core/secret"
	"redlocket/core/vault"
)

// anyEntry draws an entry of any kind with edits, custom fields, files, a changed kind,
// an archive, and keys of a newer version.
func anyEntry(t *rapid.T) vault.Entry {
	must := func(e vault.Entry, err error) vault.Entry {
		if err != nil {
			t.Fatal(err)
		}
		return e
	}
	by := func(ms int64) vault.Stamp {
		return vault.Stamp{At: ms, By: rapid.SampledFrom([]string{"desk", "laptop", ""}).Draw(t, "by")}
	}
	kinds := vault.Kinds()
	kind := rapid.SampledFrom(kinds).Draw(t, "kind")
	e := must(
		vault.New(
			rapid.StringN(1, 8, -1).Draw(t, "id"),
			kind.Type,
			by(rapid.Int64().Draw(t, "made")),
			vault.Changes{vault.FieldTitle: rapid.StringN(1, 20, -1).Draw(t, "title")},
		),
	)
	for i := range rapid.IntRange(0, 4).Draw(t, "edits") {
		c := vault.Changes{"newer": map[string]any{"n": []any{1.5, nil, rapid.String().Draw(t, "newer")}}}
		for _, s := range kind.Specs {
			if rapid.Bool().Draw(t, "changed") {
				c[s.Field] = secret.New(rapid.String().Draw(t, string(s.Field)))
			}
		}
		f, v := vault.CustomField{
			ID:    "a",
			Label: "l",
			Form:  vault.FormHidden,
			Order: i,
			Value: secret.New(rapid.String().Draw(t, "own")),
		}.Register()
		c[f] = v
		c[vault.FileField("f")] = vault.File{
			Name:   rapid.StringN(1, 10, -1).Draw(t, "file"),
			Type:   "text/plain",
			Size:   int64(i),
			Chunks: 1,
		}
		c[vault.FieldTags] = rapid.SliceOfN(rapid.String(), 0, 3).Draw(t, "tags")
		c[vault.FieldAddresses] = []vault.Address{{URL: rapid.String().Draw(t, "url"), Match: vault.MatchHost}}
		if rapid.Bool().Draw(t, "another kind") {
			c[vault.FieldKind] = string(rapid.SampledFrom(kinds).Draw(t, "now").Type)
		}
		e = must(e.With(by(e.Modified().At+1), c))
	}
	if rapid.Bool().Draw(t, "archived") {
		e = must(e.Archive(by(e.Modified().At + 1)))
	}
	if rapid.Bool().Draw(t, "of a newer version") {
		e.Extra = map[string]json.RawMessage{"later": json.RawMessage(`{"<x>":[1,2]}`)}
	}
	return e
}

func TestEveryItemSurvivesJSON(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		x := Export{
			Made:    rapid.Int64().Draw(t, "made"),
			Devices: map[string]string{"desk": rapid.String().Draw(t, "device")},
			Entries: rapid.SliceOfN(rapid.Custom(anyEntry), 1, 5).Draw(t, "entries"),
		}
		var b bytes.Buffer
		if err := WriteJSON(&b, x); err != nil {
			t.Fatal(err)
		}
		back, err := ReadJSON(b.Bytes())
		if err != nil {
			t.Fatalf("%v in %s", err, b.Bytes())
		}
		if !reflect.DeepEqual(x, back) {
			t.Fatalf("%s is read back as another", b.Bytes())
		}
		for i := range x.Entries {
			if !reflect.DeepEqual(vault.View(x.Entries[i]), vault.View(back.Entries[i])) {
				t.Fatalf("%s looks different", b.Bytes())
			}
		}
	})
}

func TestJSONByHand(t *testing.T) {
	x, err := ReadJSON([]byte(`{"format": "redlocket items", "version": 1, "items": [
		{"kind": "login", "fields": {"title": {"value": "Gullwing"}, "password": {"value": "p\u00e9", "set": "2024-05-01T10:00:00+02:00"},
		 "tags": {"value": [ "bank" ]}}}]}`))
	require.NoError(t, err)
	e := x.Entries[0]
	assert.Equal(t, "Gullwing", e.Text(vault.FieldTitle))
	assert.Equal(t, int64(Unknown), e.Fields[vault.FieldTitle].Stamp.At)
	assert.Equal(t, `"pé"`, e.Fields[vault.FieldPassword].Value.Reveal())
	assert.Equal(t, int64(1714550400000), e.Fields[vault.FieldPassword].Stamp.At)
	assert.Equal(t, []string{"bank"}, vault.View(e).Tags)
}

func TestJSONThatIsNone(t *testing.T) {
	for in, want := range map[string]string{
		``: ErrBadJSON.Error(), `{}`: ErrNotOurs.Error(), `{"format":"redlocket items","version":2}`: ErrNewer.Error(),
		`{"format":"redlocket items","version":1,"items":[{}]}`:                                                                  "item 1: " + ErrNoKind.Error(),
		`{"format":"redlocket items","version":1,"items":[{"kind":"login","fields":{"title":{"value":"x","set":"yesterday"}}}]}`: "item 1",
		strings.Repeat("[", 100000): ErrTooDeep.Error(),
		"\xff":                      ErrBinary.Error(),
		`{"format":"redlocket items","version":1,"items":[` + strings.TrimSuffix(strings.Repeat("0,", MaxItems+1),
			",") + `]}`: ErrTooMany.Error(),
	} {
		_, err := ReadJSON([]byte(in))
		assert.ErrorContains(t, err, want, in[:min(len(in), 80)])
	}
	_, err := ReadJSON(make([]byte, MaxBytes+1))
	assert.ErrorIs(t, err, ErrTooLarge)
}

// TestJSONIsAsItsSchemaSays looks at names, in the words of docs/export.schema.json.
func TestJSONIsAsItsSchemaSays(t *testing.T) {
	e, err := vault.New(
		"01",
		vault.TypeNote,
		vault.Stamp{At: 1700000000000, By: "desk"},
		vault.Changes{vault.FieldTitle: "<Shed>"},
	)
	require.NoError(t, err)
	e, err = e.With(vault.Stamp{At: 1700000000500, By: "desk"}, vault.Changes{vault.FieldTitle: "Boat shed"})
	require.NoError(t, err)
	var b bytes.Buffer
	require.NoError(t, WriteJSON(&b, Export{Made: 1700000001000, Entries: []vault.Entry{e}}))
	assert.Equal(
		t,
		`{"format":"redlocket items","version":1,"exported":"2023-11-14T22:13:21.000Z","devices":{},"items":[
{"id":"01","kind":"note","created":"2023-11-14T22:13:20.000Z","fields":{"title":{"value":"Boat shed","set":"2023-11-14T22:13:20.500Z","by":"desk"}},"history":[{"field":"title","value":"<Shed>","set":"2023-11-14T22:13:20.000Z","by":"desk","until":"2023-11-14T22:13:20.500Z"}]}
]}
`,
		b.String(),
	)
}

func FuzzReadJSON(f *testing.F) {
	f.Add(
		[]byte(
			`{"format":"redlocket items","version":1,"items":[{"kind":"login","id":"1","fields":{"title":{"value":"x","set":"2024-05-01T10:00:00Z","by":"d"}},"history":[{"field":"title","value":1}],"other":{"a":[]}}]}`,
		),
	)
	f.Fuzz(func(t *testing.T, b []byte) {
		x, err := ReadJSON(b)
		if err != nil {
			return
		}
		var out bytes.Buffer
		if err := WriteJSON(&out, x); err != nil {
			t.Fatal(err)
		}
		again, err := ReadJSON(out.Bytes())
		if err != nil {
			t.Fatal(err)
		}
		if x.Devices == nil {
			x.Devices = map[string]string{}
		}
		if fmt.Sprint(x) != fmt.Sprint(again) ||
			!slices.EqualFunc(
				x.Entries,
				again.Entries,
				func(a, b vault.Entry) bool { return reflect.DeepEqual(vault.View(a), vault.View(b)) },
			) {
			t.Fatalf("%s is read back as another", out.Bytes())
		}
	})
}
