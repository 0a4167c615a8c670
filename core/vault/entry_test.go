package vault

import (
	"encoding/json"
	"fmt"
	"reflect"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"redlocket/core/secret"
)

func at(ms int64) Stamp { return Stamp{ms, "desk"} }

func login(t testing.TB, c Changes) Entry {
	t.Helper()
	e, err := New("01", TypeLogin, at(1000), c)
	require.NoError(t, err)
	return e
}

func edit(t testing.TB, e Entry, s Stamp, c Changes) Entry {
	t.Helper()
	out, err := e.With(s, c)
	require.NoError(t, err)
	return out
}

func TestEditKeepsEarlierValues(t *testing.T) {
	first := login(t, Changes{FieldTitle: "Kelp & Crown", FieldPassword: secret.New("seed-1")})
	second := edit(t, first, at(2000), Changes{FieldTitle: "Kelp & Crown", FieldPassword: secret.New("seed-2")})

	assert.Equal(t, "seed-1", first.Text(FieldPassword), "the receiver is not changed")
	assert.Equal(t, "seed-2", second.Text(FieldPassword))
	require.Len(t, second.Past, 1)
	assert.Equal(
		t,
		Past{Field: FieldPassword, Value: secret.New(`"seed-1"`), From: at(1000), Until: 2000},
		second.Past[0],
	)
	assert.Equal(t, at(1000), second.Fields[FieldTitle].Stamp, "an unchanged field keeps its stamp")
	assert.Equal(t, at(2000), second.Modified())
}

func TestNoChangeIsNoEdit(t *testing.T) {
	e := login(t, Changes{FieldTitle: "Harbour Water"})
	assert.Equal(
		t,
		e,
		edit(
			t,
			e,
			at(9000),
			Changes{FieldTitle: "Harbour Water", FieldNotes: "", FieldPinned: false, FieldTags: []string{}},
		),
	)
}

func TestClockThatWentBack(t *testing.T) {
	e := login(t, Changes{FieldPassword: secret.New("a")})
	e = edit(t, e, at(5), Changes{FieldPassword: secret.New("b")})
	assert.Equal(t, "b", e.Text(FieldPassword))
	assert.Equal(t, int64(1001), e.Fields[FieldPassword].Stamp.At)
}

func TestArchiveLosesToAnEdit(t *testing.T) {
	e := login(t, Changes{FieldTitle: "Brackish Radio"})
	gone, err := e.Archive(at(2000))
	require.NoError(t, err)
	assert.True(t, gone.Archived())
	assert.False(t, e.Archived())
	assert.False(t, edit(t, gone, at(1500), Changes{FieldNotes: "still used"}).Archived())
	back, err := gone.Restore(at(3000))
	require.NoError(t, err)
	assert.False(t, back.Archived())
}

func TestRivalsAndSettling(t *testing.T) {
	e := login(t, Changes{FieldPassword: secret.New("mine")})
	e.Past = addPast(e.Past, Past{Field: FieldPassword, Value: secret.New(`"theirs"`), From: Stamp{900, "laptop"}})
	require.Len(t, e.Conflicts(), 1)
	assert.True(t, View(e).Undecided)

	settled, err := e.Resolve(at(500), secret.New("theirs"))
	require.NoError(t, err)
	assert.Empty(t, settled.Conflicts())
	assert.Equal(t, "theirs", settled.Text(FieldPassword))
	assert.Len(t, settled.Past, 2, "both passwords stay readable")
}

func TestStrangersSurviveARoundTrip(t *testing.T) {
	newer := `{"t":"login","id":"x","created":7,"f":{"title":{"v":"A <b>&\u2028","at":1,"by":"d"},"mood":{"v":{"n":1.50},"at":2,"by":"d"}},
		"colour":{"deep":[1,2,{"k":12345678901234567890}]},"past":[{"f":"mood","v":[1],"at":1,"by":"d","until":2}]}`
	e, err := Decode([]byte(newer))
	require.NoError(t, err)
	e = edit(t, e, at(50), Changes{FieldTitle: "B"})
	b, err := e.Encode()
	require.NoError(t, err)
	var m map[string]json.RawMessage
	require.NoError(t, json.Unmarshal(b, &m))
	assert.JSONEq(t, `{"deep":[1,2,{"k":12345678901234567890}]}`, string(m["colour"]))
	assert.Contains(t, string(m["colour"]), "12345678901234567890")
	assert.Contains(t, string(m["f"]), `"mood":{"v":{"n":1.50},"at":2,"by":"d"}`)
	assert.Contains(t, string(m["past"]), `"mood"`)
}

func TestEntriesPrintNoSecrets(t *testing.T) {
	e := login(t, Changes{FieldPassword: secret.New("barnacle-77"), FieldNotes: "pin 4711"})
	s := fmt.Sprintf("%v %+v %#v", e, e, e)
	assert.NotContains(t, s, "barnacle")
	assert.NotContains(t, s, "4711")
	assert.NotContains(t, fmt.Sprintf("%#v", View(e)), "barnacle")
}

func TestTooLarge(t *testing.T) {
	e := login(t, Changes{FieldNotes: string(make([]byte, MaxEncoded/3))})
	_, err := e.Encode()
	assert.ErrorIs(t, err, ErrTooLarge)
	_, err = Decode(make([]byte, MaxEncoded+1))
	assert.ErrorIs(t, err, ErrTooLarge)
}

func TestEncodeDecodeProperty(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		e, err := New(rapid.StringMatching("[a-z0-9-]{1,20}").Draw(t, "id"), TypeLogin, at(10), nil)
		if err != nil {
			t.Fatal(err)
		}
		for i := range rapid.IntRange(0, 6).Draw(t, "edits") {
			e, err = e.With(at(int64(20+i)), Changes{
				FieldTitle:    rapid.String().Draw(t, "title"),
				FieldPassword: secret.New(rapid.String().Draw(t, "password")),
				FieldTags:     rapid.SliceOf(rapid.String()).Draw(t, "tags"),
				"newer":       rapid.Float64().Draw(t, "newer"),
			})
			if err != nil {
				t.Fatal(err)
			}
		}
		b, err := e.Encode()
		if err != nil {
			t.Fatal(err)
		}
		back, err := Decode(b)
		if err != nil {
			t.Fatal(err)
		}
		again, err := back.Encode()
		if err != nil {
			t.Fatal(err)
		}
		slow, err := decodeAny(b)
		if err != nil || !reflect.DeepEqual(slow, back) {
			t.Fatalf("the slow way reads %v, %v", slow, err)
		}
		if _, fast := scanEntry(b); !fast {
			t.Fatalf("not read the fast way: %s", b)
		}
		if string(again) != string(b) || View(back).Title != View(e).Title {
			t.Fatalf("%s\n%s", b, again)
		}
	})
}

func FuzzDecode(f *testing.F) {
	e := login(
		f,
		Changes{
			FieldTitle:     "x",
			FieldAddresses: []Address{{URL: "https://a.example/"}},
			FieldPassword:  secret.New("p"),
		},
	)
	b, _ := e.Encode()
	f.Add(b)
	f.Add([]byte(`{"t":"login","id":"x","f":{"title":{"v":[]}}}`))
	f.Add([]byte(`{"created":0,"f":{},"id":"x","t":"login"}`))
	f.Add(
		[]byte(
			`{"created":1,"f":{"a":{"at":-1,"by":"d","v":"\\u0041\\""},"b":{"at":1,"by":"d","v":[{"x":"}]"}]}},"id":"x","past":[{"f":"a","v":null,"at":1,"by":"","until":2}],"t":"login"}`,
		),
	)
	f.Fuzz(func(t *testing.T, b []byte) {
		e, err := Decode(b)
		if err != nil {
			return
		}
		View(e)
		if slow, err := decodeAny(b); err != nil || !reflect.DeepEqual(slow, e) {
			t.Fatalf("the fast way read %v, the slow way %v, %v", e, slow, err)
		}
		out, err := e.Encode()
		if err != nil {
			return
		}
		back, err := Decode(out)
		if err != nil {
			t.Fatalf("can't read back %s: %v", out, err)
		}
		again, err := back.Encode()
		if err != nil || string(again) != string(out) {
			t.Fatalf("%s\n%s\n%v", out, again, err)
		}
	})
}

func TestAddressesAreReadEitherWay(t *testing.T) {
	for _, list := range [][]Address{nil, {}, {{URL: "https://a.example/"}}, {{URL: "https://a.example/",
		Match: MatchHost}, {URL: "https://b.example/\"<&"}}} {
		e := login(t, Changes{FieldAddresses: list})
		var slow []Address
		e.read(FieldAddresses, &slow)
		assert.Equal(t, len(list), len(View(e).Addresses))
		for i := range list {
			assert.Equal(t, list[i], View(e).Addresses[i])
			assert.Equal(t, slow[i], View(e).Addresses[i])
		}
	}
	for _, text := range []string{`[`, `[{`, `[{"url":1}]`, `{}`, `[{"url":"a"}`, `[{"url":"a"}]x`,
		`[{"url":"a","new":1}]`, `[]x`, ``} {
		_, ok := scanAddresses(text)
		assert.False(t, ok, text)
	}
}
