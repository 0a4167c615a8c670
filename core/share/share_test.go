package share_test

import (
	"bytes"
	"crypto/rand"
	"encoding/json"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"redlocket/core/keys"
	"redlocket/core/secret"
	"redlocket/core/share"
	"redlocket/core/vault"
)

func identity(t require.TestingT) keys.Identity {
	id, err := keys.NewIdentity(rand.Reader)
	require.NoError(t, err)
	return id
}

func TestAMeeting(t *testing.T) {
	maren, idris := identity(t), identity(t)
	asks, err := share.NewAsker(rand.Reader, "m1", maren.Public())
	require.NoError(t, err)
	_, early := asks.Reveal()
	assert.False(t, early, "nothing is revealed before there is an answer")
	assert.Nil(t, asks.Words())
	answers, err := share.NewAnswerer(rand.Reader, asks.Offer("Maren"), idris.Public())
	require.NoError(t, err)
	require.NoError(t, asks.Take(answers.Answer("Idris")))
	require.NoError(t, asks.Take(answers.Answer("Idris")), "the same one may come twice")
	assert.Nil(t, answers.Words())
	reveal, ok := asks.Reveal()
	require.True(t, ok)
	require.NoError(t, answers.Take(reveal))
	assert.Len(t, asks.Words(), 6)
	assert.Equal(t, asks.Words(), answers.Words())

	again := asks // as it is kept
	b, err := json.Marshal(asks)
	require.NoError(t, err)
	require.NoError(t, json.Unmarshal(b, &again))
	assert.Equal(t, asks.Words(), again.Words())
}

// Whoever is in between does what they like with each message: the words are the same only where the keys are.
func TestSomebodyInBetween(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		maren, idris, mallory := identity(t), identity(t), identity(t)
		asks, err := share.NewAsker(rand.Reader, "m1", maren.Public())
		require.NoError(t, err)
		offer := asks.Offer("Maren")
		between, err := share.NewAsker(rand.Reader, rapid.SampledFrom([]string{"m1", "m2"}).Draw(t, "meeting"),
			mallory.Public())
		require.NoError(t, err)
		forged := between.Offer("Maren")
		switch rapid.IntRange(0, 3).Draw(t, "offer") {
		case 0:
			offer = forged
		case 1:
			offer.Keys = mallory.Public()
		case 2:
			offer.Commitment = forged.Commitment
		}
		answers, err := share.NewAnswerer(rand.Reader, offer, idris.Public())
		require.NoError(t, err)
		answer := answers.Answer("Idris")
		switch rapid.IntRange(0, 3).Draw(t, "answer") {
		case 0:
			answer.Keys = mallory.Public()
		case 1:
			answer.Nonce = bytes.Clone(answer.Nonce)
			answer.Nonce[0] ^= 1
		case 2:
			fake, err := share.NewAnswerer(rand.Reader, asks.Offer("Maren"), mallory.Public())
			require.NoError(t, err)
			answer = fake.Answer("Idris")
		}
		answer.Meeting = "m1"
		require.NoError(t, asks.Take(answer))
		reveal, _ := asks.Reveal()
		if rapid.Bool().Draw(t, "reveal") {
			toBetween := answers.Answer("Idris")
			toBetween.Meeting = between.Meeting
			require.NoError(t, between.Take(toBetween))
			reveal, _ = between.Reveal()
		}
		reveal.Meeting = offer.Meeting
		if answers.Take(reveal) != nil {
			return
		}
		same := strings.Join(asks.Words(), " ") == strings.Join(answers.Words(), " ")
		honest := offer.Keys.Equal(maren.Public()) && answer.Keys.Equal(idris.Public())
		if same {
			assert.True(t, honest, "the same words with other keys")
		}
		shown := share.Code("m1", maren.Public(), answer.Keys, asks.Words())
		expected := share.Code("m1", offer.Keys, idris.Public(), answers.Words())
		assert.Equal(t, same && honest, shown == expected, "the camera finds out what the words do")
	})
}

func TestACodeIsOfWhoShowsIt(t *testing.T) {
	maren, idris := identity(t).Public(), identity(t).Public()
	words := strings.Fields("kelp ferry lantern forty slack tide")
	code := share.Code("m1", maren, idris, words)
	assert.True(t, share.IsCode(code))
	assert.Equal(t, code, share.Code("m1", maren, idris, words))
	others := []string{
		share.Code("m1", idris, maren, words), // shown by the other one: whoever films their own screen finds out nothing
		share.Code("m2", maren, idris, words),
		share.Code("m1", maren, maren, words),
		share.Code("m1", maren, idris, words[:5]),
	}
	for _, o := range others {
		assert.NotEqual(t, code, o)
	}
	assert.False(t, share.IsCode("otpauth://totp/x?secret=GEZDGNBV"))
}

func TestASecondAnswerIsRefused(t *testing.T) {
	maren, idris, mallory := identity(t), identity(t), identity(t)
	asks, err := share.NewAsker(rand.Reader, "m1", maren.Public())
	require.NoError(t, err)
	first, err := share.NewAnswerer(rand.Reader, asks.Offer("Maren"), idris.Public())
	require.NoError(t, err)
	second, err := share.NewAnswerer(rand.Reader, asks.Offer("Maren"), mallory.Public())
	require.NoError(t, err)
	require.NoError(t, asks.Take(first.Answer("Idris")))
	words := asks.Words()
	require.ErrorIs(t, asks.Take(second.Answer("Idris")), share.ErrSecond)
	other := first.Answer("Idris")
	other.Nonce = second.Nonce
	require.ErrorIs(t, asks.Take(other), share.ErrSecond, "whoever knows what was revealed gets no second try")
	assert.Equal(t, words, asks.Words())
}

func TestWhatIsNoMessage(t *testing.T) {
	maren, idris := identity(t), identity(t)
	asks, err := share.NewAsker(rand.Reader, "m1", maren.Public())
	require.NoError(t, err)
	good := asks.Offer("Maren")
	for name, o := range map[string]share.Offer{
		"nothing":        {},
		"no commitment":  {Meeting: "m1", Keys: good.Keys},
		"a short one":    {Meeting: "m1", Keys: good.Keys, Commitment: good.Commitment[:8]},
		"no keys":        {Meeting: "m1", Commitment: good.Commitment},
		"keys cut short": {Meeting: "m1", Commitment: good.Commitment, Keys: keys.PublicIdentity{Sign: good.Keys.Sign}},
		"one's own keys": {Meeting: "m1", Commitment: good.Commitment, Keys: idris.Public()},
	} {
		_, err := share.NewAnswerer(rand.Reader, o, idris.Public())
		require.Error(t, err, name)
	}
	answers, err := share.NewAnswerer(rand.Reader, good, idris.Public())
	require.NoError(t, err)
	answer := answers.Answer("Idris")
	for name, fn := range map[string]func(*share.Answer){
		"another meeting": func(a *share.Answer) { a.Meeting = "m2" },
		"a short nonce":   func(a *share.Answer) { a.Nonce = a.Nonce[1:] },
		"no keys":         func(a *share.Answer) { a.Keys = keys.PublicIdentity{} },
		"one's own keys":  func(a *share.Answer) { a.Keys = maren.Public() },
	} {
		bad := answer
		fn(&bad)
		require.Error(t, asks.Take(bad), name)
	}
	require.NoError(t, asks.Take(answer))
	reveal, _ := asks.Reveal()
	reveal.Nonce = bytes.Clone(reveal.Nonce)
	reveal.Nonce[31] ^= 1
	require.ErrorIs(t, answers.Take(reveal), share.ErrCommitment)
	assert.Nil(t, answers.Words())
}

func TestNames(t *testing.T) {
	for in, want := range map[string]string{
		" Maren  Tolliver ":        "Maren Tolliver",
		"Maren\nPaid\u202e100":     "Maren Paid100",
		"\u200b\u2066":             "",
		strings.Repeat("long", 50): strings.Repeat("long", 14) + "lon…",
	} {
		assert.Equal(t, want, share.CleanName(in))
	}
	for in, want := range map[string]string{
		"Maren Tolliver": "Maren", "Zoë": "Zoë", "Anne-Marie Quill": "Anne-Marie", "D’Arcy Moss": "D’Arcy",
		"maren@harbour.example": "", "www.harbour.example": "", "-x": "", "Bank24": "", "": "", "https://x": "",
		"Averyveryverylongfirstname": "",
	} {
		assert.Equal(t, want, share.FirstName(in), in)
	}
}

func ferry(t require.TestingT) vault.Entry {
	own := vault.CustomField{ID: "o1", Label: "Deck", Form: vault.FormHidden, Value: secret.New("three")}
	f, v := own.Register()
	e, err := vault.New("ferry", vault.TypeLogin, vault.Stamp{At: 5, By: "d"}, vault.Changes{
		vault.FieldTitle: "Ferrylink", vault.FieldUsername: "mtolliver", vault.FieldPassword: secret.New("pw"),
		vault.FieldAddresses: []vault.Address{{URL: "https://ferrylink.example/"}}, vault.FieldSetup: "otpauth://totp/x",
		vault.FieldFolder: "Sea", vault.FieldTags: []string{"trip"}, vault.FieldPinned: true, f: v,
	})
	require.NoError(t, err)
	return e
}

// A thing has what its owner sees on the sheet, and nothing of how they filed it or what it was before.
func TestThings(t *testing.T) {
	e := ferry(t)
	e, err := e.With(vault.Stamp{At: 9, By: "d"}, vault.Changes{vault.FieldPassword: secret.New("later")})
	require.NoError(t, err)
	thing, err := share.ThingOf(e)
	require.NoError(t, err)
	b, err := json.Marshal(thing)
	require.NoError(t, err)
	assert.NotContains(t, string(b), `"pw"`)
	got, err := thing.Entry("copy", vault.Stamp{At: 20, By: "x"})
	require.NoError(t, err)
	for _, f := range []vault.Field{vault.FieldTitle, vault.FieldUsername, vault.FieldPassword, vault.FieldAddresses,
		vault.FieldSetup, "own:o1"} {
		assert.Equal(t, e.Fields[f].Value, got.Fields[f].Value, f)
	}
	assert.Len(t, got.Fields, 6)
	assert.Empty(t, got.Past)
	for name, bad := range map[string]share.Thing{
		"of no kind":      {Type: vault.TypeDevice, Fields: thing.Fields},
		"another's field": {Type: vault.TypeLogin, Fields: map[vault.Field]json.RawMessage{"archived": []byte(`"x"`)}},
		"filed":           {Type: vault.TypeLogin, Fields: map[vault.Field]json.RawMessage{"folder": []byte(`"x"`)}},
		"no text":         {Type: vault.TypeLogin, Fields: map[vault.Field]json.RawMessage{"title": []byte(`{"a":1}`)}},
		"null":            {Type: vault.TypeLogin, Fields: map[vault.Field]json.RawMessage{"title": []byte(`null`)}},
		"no list":         {Type: vault.TypeLogin, Fields: map[vault.Field]json.RawMessage{"addresses": []byte(`"x"`)}},
		"no address": {Type: vault.TypeLogin, Fields: map[vault.Field]json.RawMessage{
			"addresses": []byte(`[{"url":"javascript:alert(1)"}]`),
		}},
		"no match": {Type: vault.TypeLogin, Fields: map[vault.Field]json.RawMessage{
			"addresses": []byte(`[{"url":"https://a.example/","match":"all"}]`),
		}},
		"no field":   {Type: vault.TypeLogin, Fields: map[vault.Field]json.RawMessage{"own:": []byte(`{"n":"a","k":"text"}`)}},
		"of no form": {Type: vault.TypeLogin, Fields: map[vault.Field]json.RawMessage{"own:a": []byte(`{"n":"a","k":"file"}`)}},
		"too large": {Type: vault.TypeNote, Fields: map[vault.Field]json.RawMessage{
			"notes": []byte(`"` + strings.Repeat("x", share.MaxThing) + `"`),
		}},
	} {
		_, err := bad.Entry("copy", vault.Stamp{})
		require.Error(t, err, name)
	}
}

func TestNotes(t *testing.T) {
	maren, idris, wren := identity(t), identity(t), identity(t)
	now := time.Date(2026, 3, 4, 5, 6, 7, 0, time.UTC)
	thing, err := share.ThingOf(ferry(t))
	require.NoError(t, err)
	n := share.Note{At: now.UnixMilli(), Text: "for the ferry", Thing: &thing}
	sealed, err := n.Seal(maren, idris.Public(), "n1")
	require.NoError(t, err)
	assert.NotContains(t, string(sealed), "ferry")
	got, from, err := share.OpenNote(idris, "n1", sealed, now.Add(time.Hour))
	require.NoError(t, err)
	assert.Equal(t, maren.Public().Sign, from)
	assert.Equal(t, n, got)

	_, _, err = share.OpenNote(wren, "n1", sealed, now)
	require.ErrorIs(t, err, keys.ErrOpen, "it is for nobody else")
	_, _, err = share.OpenNote(idris, "n2", sealed, now)
	require.ErrorIs(t, err, keys.ErrOpen, "it is of one id")
	_, _, err = share.OpenNote(idris, "n1", sealed, now.Add(9*24*time.Hour))
	require.ErrorIs(t, err, share.ErrPast, "it isn't read after its time")
	_, _, err = share.OpenNote(idris, "n1", sealed, now.Add(-48*time.Hour))
	require.ErrorIs(t, err, share.ErrNote, "nor before")
	// Idris hands on what Maren wrote to him: it isn't to Wren.
	l, err := idris.OpenLetter("n1", sealed)
	require.NoError(t, err)
	handed, err := idris.SealLetter(wren.Public(), "n1", l.Plain)
	require.NoError(t, err)
	_, from, err = share.OpenNote(wren, "n1", handed, now)
	require.NoError(t, err)
	assert.Equal(t, idris.Public().Sign, from, "signed by who handed it on, not by who wrote it")

	with := share.Note{At: now.UnixMilli(), Files: []share.File{
		{Name: "a", Size: 3, Data: []byte("a\x00b")}, {Name: "none"}, {Name: "c", Size: 1, Data: []byte("c")},
	}}
	sealed, err = with.Seal(maren, idris.Public(), "n3")
	require.NoError(t, err)
	got, _, err = share.OpenNote(idris, "n3", sealed, now)
	require.NoError(t, err)
	require.Len(t, got.Files, 3)
	for i, f := range with.Files {
		assert.Equal(t, string(f.Data), string(got.Files[i].Data))
	}
	for _, plain := range []string{
		`{"at":1772600767000,"files":[{"name":"a","size":2}]}` + "\x00a",
		`{"at":1772600767000,"files":[{"name":"a","size":-1}]}` + "\x00a",
		`{"at":1772600767000,"files":[{"name":"a","size":0}]}` + "\x00a",
		`{"at":1772600767000,"text":"x"}` + "\x00more",
	} {
		sealed, err := maren.SealLetter(idris.Public(), "n4", []byte(plain))
		require.NoError(t, err)
		_, _, err = share.OpenNote(idris, "n4", sealed, now)
		require.ErrorIs(t, err, share.ErrNote, plain)
	}

	for name, bad := range map[string]share.Note{
		"nothing":   {At: now.UnixMilli()},
		"too large": {At: now.UnixMilli(), Files: []share.File{{Name: "a", Size: share.MaxBytes + 1, Data: make([]byte, share.MaxBytes+1)}}},
		"no name":   {At: now.UnixMilli(), Files: []share.File{{}}},

		"too long":  {At: now.UnixMilli(), Text: strings.Repeat("é", share.MaxText+1)},
		"no UTF-8":  {At: now.UnixMilli(), Text: "\xff"},
		"bad thing": {At: now.UnixMilli(), Thing: &share.Thing{Type: "device"}},
	} {
		require.Error(t, bad.Check(now), name)
	}
}

func FuzzOpenNote(f *testing.F) {
	own := identity(f)
	n := share.Note{At: 1, Text: "x"}
	sealed, err := n.Seal(own, own.Public(), "n1")
	require.NoError(f, err)
	f.Add(sealed)
	f.Add([]byte{})
	f.Fuzz(func(t *testing.T, b []byte) {
		if bytes.Equal(b, sealed) {
			return
		}
		_, _, err := share.OpenNote(own, "n1", b, time.UnixMilli(1))
		require.Error(t, err)
	})
}
