package app_test

import (
	"bytes"
	"context"
	"crypto/rand"
	"encoding/hex"
	"encoding/json"
	"errors"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"redlocket/app"
	"redlocket/app/household"
	"redlocket/app/reauth"
	"redlocket/core/keys"
	"redlocket/core/secret"
	"redlocket/core/share"
	"redlocket/core/vault"
	"redlocket/core/wire"
)

const idrisEmail = "idris@harbour.example"

// person finds somebody by their address.
func person(t testing.TB, v *app.Vault, email string) (household.Person, bool) {
	t.Helper()
	list, err := v.Household.People()
	require.NoError(t, err)
	for _, p := range list {
		if p.Email == email {
			return p, true
		}
	}
	return household.Person{}, false
}

// becomes waits until somebody is known in a state, and returns them.
func becomes(t testing.TB, v *app.Vault, email string, s household.State) (p household.Person) {
	t.Helper()
	soon(t, string(s), func() bool {
		var ok bool
		p, ok = person(t, v, email)
		return ok && p.State == s
	})
	return p
}

// meet has two people ask and answer, up to the words.
func meet(t testing.TB, a, b *app.Vault) (ofA, ofB household.Person) {
	t.Helper()
	_, err := a.Household.Ask(t.Context(), b.Profile().Email, "The other one")
	require.NoError(t, err)
	asks := becomes(t, b, a.Profile().Email, household.Asks)
	require.NoError(t, b.Household.Answer(t.Context(), asks.ID, ""))
	return becomes(t, a, b.Profile().Email, household.Compare), becomes(t, b, a.Profile().Email, household.Compare)
}

func same(t testing.TB, v *app.Vault, p household.Person) {
	t.Helper()
	v.Guard.Given()
	require.NoError(t, v.Household.Same(t.Context(), p.ID))
}

// checked has two people know each other.
func checked(t testing.TB, a, b *app.Vault) (ofA, ofB household.Person) {
	t.Helper()
	ofA, ofB = meet(t, a, b)
	require.Equal(t, ofA.Words, ofB.Words)
	same(t, a, ofA)
	same(t, b, ofB)
	return becomes(t, a, ofA.Email, household.Checked), becomes(t, b, ofB.Email, household.Checked)
}

// passed waits for a person's notes to be as many, and returns the last.
func passed(t testing.TB, v *app.Vault, who string, n int) (last household.Note) {
	t.Helper()
	soon(t, "it came", func() bool {
		p, ok := person(t, v, who)
		if !ok {
			return false
		}
		list, err := v.Household.Notes(p.ID)
		require.NoError(t, err)
		if len(list) > 0 {
			last = list[len(list)-1]
		}
		return len(list) == n
	})
	return last
}

// letters are what waits at the cloud for everybody.
func (w *world) letters(vs ...*app.Vault) (n int) {
	for _, v := range vs {
		list, err := w.listOf(v)
		require.NoError(w.t, err)
		n += len(list)
	}
	return n
}

func (w *world) listOf(v *app.Vault) ([]wire.Letter, error) {
	cloud, credential, err := v.Household.Cloud(w.t.Context())
	if err != nil {
		return nil, err
	}
	return cloud.Letters(w.t.Context(), credential)
}

func TestTwoPeopleMeet(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	maren := w.create(w.device("maren"))
	laptop := w.join(w.device("laptop"), maren)
	idris := w.createFor(w.device("idris"), "Idris Moss", idrisEmail)
	for what, do := range map[string]func() (string, error){
		"oneself":    func() (string, error) { return maren.Household.Ask(t.Context(), " "+email, "Me") },
		"no address": func() (string, error) { return maren.Household.Ask(t.Context(), "idris", "Idris") },
		"no name":    func() (string, error) { return maren.Household.Ask(t.Context(), idrisEmail, "\u200b") },
	} {
		_, err := do()
		require.Error(t, err, what)
	}
	ofMaren, ofIdris := meet(t, maren, idris)
	assert.Len(t, ofMaren.Words, 6)
	assert.Equal(t, ofMaren.Words, ofIdris.Words)
	assert.Equal(t, "The other one", ofMaren.Name)
	assert.Equal(t, "Idris Moss", ofMaren.Calls)
	assert.Equal(t, "Maren Tolliver", ofIdris.Name)
	_, err := maren.Household.Ask(t.Context(), "IDRIS@harbour.example", "Idris")
	require.Error(t, err, "they are there already")
	_, err = maren.Household.Pass(t.Context(), ofMaren.ID, household.Passing{Text: "hello"})
	require.Error(t, err, "the words come first")
	require.ErrorIs(t, maren.Household.Same(t.Context(), ofMaren.ID), reauth.ErrNeeded)

	becomes(t, laptop, idrisEmail, household.Compare) // the words are on each device
	same(t, laptop, ofMaren)
	same(t, idris, ofIdris)
	becomes(t, maren, idrisEmail, household.Checked)
	soon(t, "nothing stays at the cloud", func() bool { return w.letters(maren, idris) == 0 })

	require.NoError(t, maren.Household.Rename(t.Context(), ofMaren.ID, "Idris"))
	p, _ := person(t, maren, idrisEmail)
	assert.Equal(t, "Idris", p.Name)
	require.NoError(t, maren.Household.Remove(t.Context(), ofMaren.ID))
	_, there := person(t, maren, idrisEmail)
	assert.False(t, there)
	w.inStep(maren, laptop)
	_, there = person(t, laptop, idrisEmail)
	assert.False(t, there)
	_, err = maren.Household.Person(ofMaren.ID)
	require.ErrorIs(t, err, household.ErrNoPerson)
}

// Two who ask each other meet in one meeting.
func TestTwoPeopleAskEachOther(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	maren, idris := w.create(w.device("maren")), w.createFor(w.device("idris"), "Idris Moss", idrisEmail)
	w.down.Store(true)
	for v, to := range map[*app.Vault]string{maren: idrisEmail, idris: email} {
		_, err := v.Household.Ask(t.Context(), to, "The other one")
		require.NoError(t, err, "it can be prepared without the cloud")
	}
	w.down.Store(false)
	ofMaren, ofIdris := becomes(t, maren, idrisEmail, household.Compare), becomes(t, idris, email, household.Compare)
	assert.Equal(t, ofMaren.ID, ofIdris.ID, "it is one meeting")
	assert.Equal(t, ofMaren.Words, ofIdris.Words)
	for _, v := range []*app.Vault{maren, idris} {
		list, err := v.Household.People()
		require.NoError(t, err)
		assert.Len(t, list, 1)
	}
}

func TestNotesArePassed(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	maren := w.create(w.device("maren"))
	laptop := w.join(w.device("laptop"), maren)
	idris := w.createFor(w.device("idris"), "Idris Moss", idrisEmail)
	ofMaren, ofIdris := checked(t, maren, idris)
	ferry := w.save(maren, "Ferrylink", "pw-ferry")

	_, err := maren.Household.Pass(t.Context(), ofMaren.ID, household.Passing{})
	require.Error(t, err, "nothing")
	_, err = maren.Household.Pass(t.Context(), ofMaren.ID, household.Passing{Text: strings.Repeat("x", share.MaxText+1)})
	require.Error(t, err, "too long")
	_, err = maren.Household.Pass(t.Context(), ofMaren.ID, household.Passing{Item: "no such item"})
	require.Error(t, err)
	w.down.Store(true)
	sent, err := maren.Household.Pass(t.Context(), ofMaren.ID, household.Passing{Text: "for Saturday", Item: ferry})
	require.NoError(t, err, "it waits for the cloud")
	w.down.Store(false)

	got := passed(t, idris, email, 1)
	assert.True(t, got.Unread())
	assert.Equal(t, "Ferrylink", got.Title)
	unread, err := idris.Household.Unread()
	require.NoError(t, err)
	assert.Len(t, unread, 1)
	text, thing, err := idris.Household.Read(t.Context(), got.ID)
	require.NoError(t, err)
	assert.Equal(t, "for Saturday", text)
	assert.Equal(t, "pw-ferry", thing.Text(vault.FieldPassword))
	assert.Zero(t, count(t, idris), "it isn't in the book until it is kept")
	p, _ := person(t, idris, email)
	assert.Zero(t, p.Unread)

	soon(t, "handed over", func() bool {
		n := passed(t, laptop, idrisEmail, 1)
		return !n.Seen.IsZero() && !n.HasThing()
	})
	e, err := maren.Items.Entry(sent)
	require.NoError(t, err)
	b, err := e.Encode()
	require.NoError(t, err)
	assert.NotContains(t, string(b), "pw-ferry", "what went with it is kept no longer than it takes")

	item, err := idris.Household.Keep(t.Context(), got.ID)
	require.NoError(t, err)
	again, err := idris.Household.Keep(t.Context(), got.ID)
	require.NoError(t, err)
	assert.Equal(t, item, again)
	assert.Equal(t, "pw-ferry", password(t, idris, item))
	assert.Equal(t, 1, count(t, idris))

	_, err = idris.Household.Pass(t.Context(), ofIdris.ID, household.Passing{Text: "thanks"}) // answered in place
	require.NoError(t, err)
	reply := passed(t, laptop, idrisEmail, 2)
	text, _, err = laptop.Household.Read(t.Context(), reply.ID)
	require.NoError(t, err)
	assert.Equal(t, "thanks", text)
	soon(t, "nothing stays at the cloud", func() bool { return w.letters(maren, idris) == 0 })

	w.now.Add((share.NoteLife + time.Hour).Milliseconds())
	for _, v := range []*app.Vault{maren, laptop, idris} {
		soon(t, "gone after a week", func() bool {
			v.Household.Heard()
			v.Sync.Nudge()
			list, err := v.Household.People()
			require.NoError(t, err)
			notes, err := v.Household.Notes(list[0].ID)
			require.NoError(t, err)
			return len(notes) == 0
		})
	}
	assert.Equal(t, "pw-ferry", password(t, idris, item), "what was kept stays")
	_, _, err = idris.Household.Read(t.Context(), got.ID)
	require.ErrorIs(t, err, household.ErrNoNote)
}

// Notes stand in the order in which they were passed, also where the clock was set back meanwhile.
func TestNotesKeepTheirOrder(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	maren := w.create(w.device("maren"))
	idris := w.createFor(w.device("idris"), "Idris Moss", idrisEmail)
	ofMaren, _ := checked(t, maren, idris)
	want := []string{"one", "two", "three", "four", "five", "six", "seven", "eight"}
	for _, text := range want {
		_, err := maren.Household.Pass(t.Context(), ofMaren.ID, household.Passing{Text: text})
		require.NoError(t, err)
		w.now.Add(-50)
	}
	passed(t, idris, email, len(want))
	p, _ := person(t, idris, email)
	list, err := idris.Household.Notes(p.ID)
	require.NoError(t, err)
	var got []string
	for _, n := range list {
		text, _, err := idris.Household.Read(t.Context(), n.ID)
		require.NoError(t, err)
		got = append(got, text)
	}
	assert.Equal(t, want, got)
}

func TestANoteIsTakenBack(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	first := w.device("idris")
	maren, idris := w.create(w.device("maren")), w.createFor(first, "Idris Moss", idrisEmail)
	ofMaren, _ := checked(t, maren, idris)
	w.inStep(idris)
	idris.Lock()
	id, err := maren.Household.Pass(t.Context(), ofMaren.ID, household.Passing{Text: "oh no"})
	require.NoError(t, err)
	soon(t, "it was handed over", func() bool { n := passed(t, maren, idrisEmail, 1); return !n.Seen.IsZero() })
	require.NoError(t, maren.Household.Forget(t.Context(), id))
	idris, err = first.Unlock(t.Context(), idris.Profile().ID, secret.New(master))
	require.NoError(t, err)
	w.inStep(idris)
	idris.Sync.Nudge()
	assert.Zero(t, w.letters(idris))
	never(t, "it is there", long, func() bool { p, _ := person(t, idris, email); return p.Unread > 0 })
}

// What is left out under the second passphrase isn't passed, and what was passed of it goes with it.
func TestPassingKnowsOfTheSecondPassphrase(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	d := w.device("maren")
	maren, idris := w.create(d), w.createFor(w.device("idris"), "Idris Moss", idrisEmail)
	ofMaren, ofIdris := checked(t, maren, idris)
	setSecond(t, maren, sheetCode(t, maren))
	lighthouse := w.save(maren, "Lighthouse", "pw-light")
	_, err := maren.Household.Pass(t.Context(), ofMaren.ID, household.Passing{Item: lighthouse})
	require.NoError(t, err)
	passed(t, idris, email, 1)
	_, err = idris.Household.Pass(t.Context(), ofIdris.ID, household.Passing{Item: w.save(idris, "Harbour bar", "pw-bar")})
	require.NoError(t, err)
	bar := passed(t, maren, idrisEmail, 2)
	kept, err := maren.Household.Keep(t.Context(), bar.ID)
	require.NoError(t, err)
	leaveOut(t, maren, lighthouse, kept)
	_, err = maren.Household.Pass(t.Context(), ofMaren.ID, household.Passing{Item: titled(t, maren, "Lighthouse")[0]})
	require.Error(t, err)
	maren = by(t, d, maren, second)
	list, err := maren.Household.Notes(ofMaren.ID)
	require.NoError(t, err)
	assert.Empty(t, list, "nothing says that there was something")
}

// swapped has a cloud hand out other letters of a kind than it was given.
func (w *world) swapped(kind string, change func(body []byte) []byte) {
	fn := func(rw http.ResponseWriter, r *http.Request, next http.Handler) {
		if r.Method != http.MethodGet || !strings.HasPrefix(r.URL.Path, "/v1/letters/") {
			next.ServeHTTP(rw, r)
			return
		}
		seen := httptest.NewRecorder()
		next.ServeHTTP(seen, r)
		var l wire.Letter
		if json.Unmarshal(seen.Body.Bytes(), &l) == nil && l.Kind == kind {
			l.Body = change(l.Body)
			b, _ := json.Marshal(l)
			seen.Body = bytes.NewBuffer(b)
		}
		rw.Header().Set("Content-Type", seen.Header().Get("Content-Type"))
		rw.WriteHeader(seen.Code)
		_, _ = rw.Write(seen.Body.Bytes())
	}
	w.between.Store(&fn)
}

func TestACloudThatSwapsKeysIsNoticed(t *testing.T) {
	t.Parallel()
	mallory, err := keys.NewIdentity(testRand{})
	require.NoError(t, err)
	forge := func(body []byte, fn func(map[string]any)) []byte {
		var m map[string]any
		require.NoError(t, json.Unmarshal(body, &m))
		fn(m)
		b, err := json.Marshal(m)
		require.NoError(t, err)
		return b
	}
	for name, c := range map[string]struct {
		kind string
		fn   func(map[string]any)
	}{
		"the offer's keys":  {wire.LetterOffer, func(m map[string]any) { m["keys"] = mallory.Public() }},
		"the answer's keys": {wire.LetterAnswer, func(m map[string]any) { m["keys"] = mallory.Public() }},
		"the answer's nonce": {wire.LetterAnswer, func(m map[string]any) {
			m["nonce"] = bytes.Repeat([]byte{7}, share.NonceSize)
		}},
		"what is revealed": {wire.LetterReveal, func(m map[string]any) {
			m["nonce"] = bytes.Repeat([]byte{7}, share.NonceSize)
		}},
	} {
		t.Run(name, func(t *testing.T) {
			w := newWorld(t)
			maren, idris := w.create(w.device("maren")), w.createFor(w.device("idris"), "Idris Moss", idrisEmail)
			w.swapped(c.kind, func(body []byte) []byte { return forge(body, c.fn) })
			_, err := maren.Household.Ask(t.Context(), idrisEmail, "Idris")
			require.NoError(t, err)
			asks := becomes(t, idris, email, household.Asks)
			require.NoError(t, idris.Household.Answer(t.Context(), asks.ID, ""))
			ofMaren := becomes(t, maren, idrisEmail, household.Compare)
			never(t, "other keys under the same words", long, func() bool {
				p, _ := person(t, idris, email)
				shown, _ := idris.Household.Code(p.ID)
				return p.State == household.Compare && (strings.Join(p.Words, " ") == strings.Join(ofMaren.Words, " ") ||
					maren.Household.ReadCode(ofMaren.ID, shown) == nil)
			})
		})
	}
}

// testRand is randomness of a test's own.
type testRand struct{}

func (testRand) Read(b []byte) (int, error) {
	for i := range b {
		b[i] = byte(i)
	}
	return len(b), nil
}

// Somebody with another vault under the address of a person who was checked isn't that person: nothing more goes to
// either until that is settled.
func TestOtherKeysUnderTheSameAddress(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	first := w.device("idris")
	maren, idris := w.create(w.device("maren")), w.createFor(first, "Idris Moss", idrisEmail)
	ofMaren, _ := checked(t, maren, idris)
	_, err := maren.Household.Pass(t.Context(), ofMaren.ID, household.Passing{Text: "before"})
	require.NoError(t, err)
	passed(t, idris, email, 1)
	idris.Guard.Given()
	require.NoError(t, idris.Account.DeleteAccount(t.Context(), secret.New(master)))
	anew := w.createFor(w.device("new"), "Idris Moss", idrisEmail)
	_, err = anew.Household.Ask(t.Context(), email, "Maren")
	require.NoError(t, err)
	soon(t, "paused", func() bool {
		p, err := maren.Household.Person(ofMaren.ID)
		return err == nil && p.Paused
	})
	_, err = maren.Household.Pass(t.Context(), ofMaren.ID, household.Passing{Text: "to whom?"})
	require.Error(t, err)
	list, err := maren.Household.People()
	require.NoError(t, err)
	require.Len(t, list, 2)
	asks := list[1]
	assert.True(t, asks.Again)
	require.NoError(t, maren.Household.Answer(t.Context(), asks.ID, ""))
	soon(t, "words", func() bool {
		p, err := maren.Household.Person(asks.ID)
		return err == nil && p.State == household.Compare
	})
	other := becomes(t, anew, email, household.Compare)
	asks, err = maren.Household.Person(asks.ID)
	require.NoError(t, err)
	assert.Equal(t, other.Words, asks.Words)
	assert.NotEqual(t, ofMaren.Words, asks.Words)
	same(t, maren, asks)
	same(t, anew, other)
	list, err = maren.Household.People()
	require.NoError(t, err)
	require.Len(t, list, 1, "there is one Idris again")
	assert.False(t, list[0].Paused)
	notes, err := maren.Household.Notes(list[0].ID)
	require.NoError(t, err)
	assert.Len(t, notes, 1, "with what was passed before")
	_, err = maren.Household.Pass(t.Context(), list[0].ID, household.Passing{Text: "hello again"})
	require.NoError(t, err)
	passed(t, anew, email, 1)
}

// With other keys of one's own everybody is asked again.
func TestNewKeysOfOnesOwn(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	maren, idris := w.create(w.device("maren")), w.createFor(w.device("idris"), "Idris Moss", idrisEmail)
	checked(t, maren, idris)
	w.now.Add(time.Minute.Milliseconds())
	require.ErrorIs(t, maren.Household.NewKeys(t.Context()), reauth.ErrNeeded)
	maren.Guard.Given()
	require.NoError(t, maren.Household.NewKeys(t.Context()))
	var asks household.Person
	soon(t, "told", func() bool {
		list, err := idris.Household.People()
		require.NoError(t, err)
		if len(list) != 2 || !list[0].Paused || list[1].State != household.Asks {
			return false
		}
		asks = list[1]
		return true
	})
	require.NoError(t, idris.Household.Answer(t.Context(), asks.ID, ""))
	ofMaren := becomes(t, maren, idrisEmail, household.Compare)
	soon(t, "words", func() bool {
		asks, _ = idris.Household.Person(asks.ID)
		return asks.State == household.Compare
	})
	assert.Equal(t, ofMaren.Words, asks.Words)
}

// What the two computers compare by camera is what the words say, read the right way round.
func TestTheComputersCompare(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	maren, idris := w.create(w.device("maren")), w.createFor(w.device("idris"), "Idris Moss", idrisEmail)
	rosa := w.createFor(w.device("rosa"), "Rosa Quayle", "rosa.quayle@allotments.example")
	ofMaren, ofIdris := meet(t, maren, idris)
	_, ofIdrisAtRosas := meet(t, idris, rosa)
	shown, err := idris.Household.Code(ofIdris.ID)
	require.NoError(t, err)
	require.NoError(t, maren.Household.ReadCode(ofMaren.ID, shown))
	own, err := maren.Household.Code(ofMaren.ID)
	require.NoError(t, err)
	require.NoError(t, idris.Household.ReadCode(ofIdris.ID, own), "either way")
	require.ErrorIs(t, maren.Household.ReadCode(ofMaren.ID, own), household.ErrOwnCode)
	rosas, err := rosa.Household.Code(ofIdrisAtRosas.ID)
	require.NoError(t, err)
	require.ErrorIs(t, maren.Household.ReadCode(ofMaren.ID, rosas), household.ErrOtherCode)
	require.ErrorIs(t, maren.Household.ReadCode(ofMaren.ID, "https://allotments.example/"), household.ErrNoCode)
	require.ErrorIs(t, maren.Household.ReadCode("0197a5c0-0000-7000-8000-000000000001", shown), household.ErrNoPerson)
	same(t, maren, ofMaren)
	require.Error(t, maren.Household.ReadCode(ofMaren.ID, shown), "there is nothing to be compared any more")
	_, err = maren.Household.Code(ofMaren.ID)
	require.Error(t, err)
}

// A note of somebody who isn't known yet waits at the cloud, and comes once they are.
func TestANoteBeforeTheWordsWereCompared(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	maren, idris := w.create(w.device("maren")), w.createFor(w.device("idris"), "Idris Moss", idrisEmail)
	ofMaren, ofIdris := meet(t, maren, idris)
	same(t, maren, ofMaren)
	_, err := maren.Household.Pass(t.Context(), ofMaren.ID, household.Passing{Text: "early"})
	require.NoError(t, err)
	soon(t, "it waits", func() bool { return w.letters(idris) == 1 })
	p, _ := person(t, idris, email)
	assert.Zero(t, p.Unread)
	same(t, idris, ofIdris)
	n := passed(t, idris, email, 1)
	text, _, err := idris.Household.Read(t.Context(), n.ID)
	require.NoError(t, err)
	assert.Equal(t, "early", text)
}

// A meeting goes on where it was after the devices were locked at any of its steps.
func TestAMeetingOutlivesLocking(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	one, other := w.device("maren"), w.device("idris")
	maren, idris := w.create(one), w.createFor(other, "Idris Moss", idrisEmail)
	open := func(d *app.Device, v *app.Vault) *app.Vault {
		v.Lock()
		v, err := d.Unlock(t.Context(), v.Profile().ID, secret.New(master))
		require.NoError(t, err)
		return v
	}
	_, err := maren.Household.Ask(t.Context(), idrisEmail, "Idris")
	require.NoError(t, err)
	maren = open(one, maren)
	asks := becomes(t, idris, email, household.Asks)
	idris = open(other, idris)
	require.NoError(t, idris.Household.Answer(t.Context(), asks.ID, ""))
	idris = open(other, idris)
	ofMaren := becomes(t, maren, idrisEmail, household.Compare)
	maren = open(one, maren)
	ofIdris := becomes(t, idris, email, household.Compare)
	assert.Equal(t, ofMaren.Words, ofIdris.Words)
	same(t, maren, ofMaren)
	same(t, idris, ofIdris)
}

// Backups hold nothing of it: the keys of another vault would be others.
func TestPeopleAreInNoBackup(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	maren, idris := w.create(w.device("maren")), w.createFor(w.device("idris"), "Idris Moss", idrisEmail)
	ofMaren, _ := checked(t, maren, idris)
	_, err := maren.Household.Pass(t.Context(), ofMaren.ID, household.Passing{Text: "for you alone"})
	require.NoError(t, err)
	var b bytes.Buffer
	maren.Guard.Given()
	_, err = maren.Backups.Write(t.Context(), &b, secret.New(passphrase))
	require.NoError(t, err)
	anew := w.createFor(w.device("new"), "Maren Tolliver", "maren@elsewhere.example")
	_, err = anew.Backups.Restore(t.Context(), &b, secret.New(passphrase), nil)
	require.NoError(t, err)
	list, err := anew.Household.People()
	require.NoError(t, err)
	assert.Empty(t, list)
}

// Files go with a note by themselves, and are kept as a note of one's own. Nothing of a note that can't go stays.
func TestFilesGoWithANote(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	maren, idris := w.create(w.device("maren")), w.createFor(w.device("idris"), "Idris Moss", idrisEmail)
	ofMaren, ofIdris := checked(t, maren, idris)
	pass := func(files ...household.Attached) error {
		_, err := maren.Household.Pass(t.Context(), ofMaren.ID, household.Passing{Attached: files})
		return err
	}
	many := make([]household.Attached, share.MaxFiles+1)
	for i := range many {
		many[i] = household.Attached{Name: "a.txt", Data: []byte("a")}
	}
	require.NoError(t, pass(household.Attached{Name: "berth.txt", Data: []byte("nine")}, household.Attached{Name: "empty.txt"}))
	got := passed(t, idris, email, 1)
	require.Len(t, got.Files, 2)
	assert.Zero(t, got.Length())
	item, err := idris.Household.Keep(t.Context(), got.ID)
	require.NoError(t, err)
	require.NoError(t, idris.Household.Forget(t.Context(), got.ID))
	e, err := idris.Items.Entry(item)
	require.NoError(t, err)
	read := map[string]string{}
	for _, f := range e.Files() {
		var b bytes.Buffer
		require.NoError(t, idris.Files.Read(t.Context(), f, &b))
		read[f.Name] = b.String()
	}
	assert.Equal(t, map[string]string{"berth.txt": "nine", "empty.txt": ""}, read)

	before, err := maren.Files.Stored(t.Context())
	require.NoError(t, err)
	require.Error(t, pass(many...), "too many")
	require.Error(t, pass(household.Attached{Name: "film.bin", Data: make([]byte, share.MaxBytes+1)}), "too large")
	_, err = maren.Household.Pass(t.Context(), "0197a5c0-0000-7000-8000-000000000001", household.Passing{Attached: many[:1]})
	require.ErrorIs(t, err, household.ErrNoPerson)
	after, err := maren.Files.Stored(t.Context())
	require.NoError(t, err)
	assert.Equal(t, before, after, "nothing is left of what couldn't go")
	require.NoError(t, pass(many[:share.MaxFiles]...))
	assert.Len(t, passed(t, idris, email, 1).Files, share.MaxFiles)
	_, err = idris.Household.Pass(t.Context(), ofIdris.ID, household.Passing{Text: "thanks"})
	require.NoError(t, err)
}

// A copy goes with its files, if they are wanted and not too large.
func TestFilesArePassed(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	maren := w.create(w.device("maren"))
	laptop := w.join(w.device("laptop"), maren)
	first := w.device("idris")
	idris := w.createFor(first, "Idris Moss", idrisEmail)
	ofMaren, _ := checked(t, maren, idris)
	paper := w.save(maren, "Passport", "pw")
	_, err := maren.Files.Attach(t.Context(), paper, "scan.txt", strings.NewReader("page one"))
	require.NoError(t, err)
	_, err = maren.Files.Attach(t.Context(), paper, "empty.txt", strings.NewReader(""))
	require.NoError(t, err)
	w.inStep(maren, laptop)
	soon(t, "the files are at the cloud", func() bool {
		e, err := laptop.Items.Entry(paper)
		require.NoError(t, err)
		for _, f := range e.Files() {
			err = errors.Join(err, laptop.Files.Read(t.Context(), f, io.Discard))
		}
		return err == nil && len(e.Files()) == 2
	})
	// From the laptop, which has them from there.
	_, err = laptop.Household.Pass(t.Context(), ofMaren.ID, household.Passing{Item: paper, Files: true})
	require.NoError(t, err)
	got := passed(t, idris, email, 1)
	require.Len(t, got.Files, 2)
	contents := func(v *app.Vault, item string) map[string]string {
		e, err := v.Items.Entry(item)
		require.NoError(t, err)
		out := map[string]string{}
		for _, f := range e.Files() {
			var b bytes.Buffer
			require.NoError(t, v.Files.Read(t.Context(), f, &b))
			out[f.Name] = b.String()
		}
		return out
	}
	want := map[string]string{"scan.txt": "page one", "empty.txt": ""}
	assert.Equal(t, want, contents(idris, got.ID))
	item, err := idris.Household.Keep(t.Context(), got.ID)
	require.NoError(t, err)
	require.NoError(t, idris.Household.Forget(t.Context(), got.ID))
	idris = by(t, first, idris, master)
	idris.Files.RemoveUnused(t.Context())
	assert.Equal(t, want, contents(idris, item), "what was kept has them still")

	_, err = maren.Files.Attach(t.Context(), paper, "film.bin", bytes.NewReader(make([]byte, share.MaxBytes)))
	require.NoError(t, err)
	_, err = maren.Household.Pass(t.Context(), ofMaren.ID, household.Passing{Item: paper, Files: true})
	require.ErrorIs(t, err, household.ErrLargeFiles)
	_, err = maren.Household.Pass(t.Context(), ofMaren.ID, household.Passing{Item: paper})
	require.NoError(t, err)
	assert.Empty(t, passed(t, idris, email, 1).Files)
}

// A cloud that hands out letters under the ids of what a vault holds, alone or together with somebody whose words were
// compared, replaces nothing of it.
func TestALetterUnderAnotherThingsID(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	maren := w.create(w.device("maren"))
	post, err := newPostbox()
	require.NoError(t, err)
	h := householdAt(maren, post)
	collect := func() { require.NoError(t, h.Collect(t.Context())) }
	id, err := h.Ask(t.Context(), idrisEmail, "Idris")
	require.NoError(t, err)
	for range 3 {
		collect()
	}
	maren.Guard.Given()
	require.NoError(t, h.Same(t.Context(), id))
	login, other := w.save(maren, "Ferrylink", "pw"), w.save(maren, "Gullwing", "pw")
	note, err := share.Note{At: time.Now().UnixMilli(), Text: "x"}.Seal(post.other, post.meets.Offer.Keys, login)
	require.NoError(t, err)
	asks, err := share.NewAsker(rand.Reader, other, post.other.Public())
	require.NoError(t, err)
	offer, err := json.Marshal(asks.Offer("Mallory"))
	require.NoError(t, err)
	post.waits[login] = wire.Letter{ID: login, Kind: wire.LetterNote, Body: note}
	post.waits[other] = wire.Letter{ID: other, Kind: wire.LetterOffer, From: "mallory@harbour.example", Body: offer}
	post.waits[maren.Profile().Vault] = wire.Letter{ID: maren.Profile().Vault, Kind: wire.LetterOffer,
		From: "mallory@harbour.example", Body: offer}
	collect()
	collect()
	assert.Equal(t, "pw", password(t, maren, login))
	assert.Equal(t, "pw", password(t, maren, other))
	assert.Equal(t, vault.TypeProfile, maren.Book.Profile().Type)
	_, there := person(t, maren, "mallory@harbour.example")
	assert.True(t, there, "it was taken as what it is")
	assert.Zero(t, len(post.waits), "and none of them waits for ever")
}

// What waits for its owner to do something isn't fetched again and again.
func TestWhatWaitsIsFetchedOnce(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	maren := w.create(w.device("maren"))
	post, err := newPostbox()
	require.NoError(t, err)
	counted := &countedPost{postbox: post}
	h := householdAt(maren, counted)
	collect := func() { require.NoError(t, h.Collect(t.Context())) }
	id, err := h.Ask(t.Context(), idrisEmail, "Idris")
	require.NoError(t, err)
	for range 3 {
		collect()
	}
	require.NoError(t, post.pass(share.Note{At: time.Now().UnixMilli(), Text: "early"}))
	before := counted.fetched
	for range 5 {
		collect()
	}
	assert.Equal(t, before+1, counted.fetched)
	maren.Guard.Given()
	require.NoError(t, h.Same(t.Context(), id))
	collect()
	unread, err := h.Unread()
	require.NoError(t, err)
	assert.Len(t, unread, 1, "it comes once the words were the same")
}

// countedPost counts the letters that are fetched.
type countedPost struct {
	*postbox
	fetched int
}

func (p *countedPost) Letter(ctx context.Context, credential, id string) (wire.Letter, error) {
	p.fetched++
	return p.postbox.Letter(ctx, credential, id)
}

// Two devices that gave their owner keys at the same time don't go on with those that lost.
func TestAMeetingWithKeysThatAreNoMore(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	maren := w.create(w.device("maren"))
	post, err := newPostbox()
	require.NoError(t, err)
	h := householdAt(maren, post)
	collect := func() { require.NoError(t, h.Collect(t.Context())) }
	first, err := h.Ask(t.Context(), idrisEmail, "Idris")
	require.NoError(t, err)
	collect() // the keys
	post.silent = true
	collect() // the offer
	other, err := keys.NewIdentity(rand.Reader)
	require.NoError(t, err)
	require.NoError(t, maren.Items.Edit(t.Context(), maren.Profile().Vault,
		func(e vault.Entry, by vault.Stamp) (vault.Entry, error) {
			return e.With(by, vault.Changes{vault.FieldIdentity: hex.EncodeToString(other.Bytes())})
		}))
	post.silent = false
	for range 3 {
		collect()
	}
	_, err = h.Person(first)
	require.ErrorIs(t, err, household.ErrNoPerson)
	list, err := h.People()
	require.NoError(t, err)
	require.Len(t, list, 1)
	assert.Equal(t, household.Compare, list[0].State, "they were asked again")
	assert.True(t, post.meets.Offer.Keys.Equal(other.Public()))
}

// A letter that doesn't come stops nothing else.
func TestALetterThatHangs(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	maren := w.create(w.device("maren"))
	laptop := w.join(w.device("laptop"), maren)
	idris := w.createFor(w.device("idris"), "Idris Moss", idrisEmail)
	_, ofIdris := checked(t, maren, idris)
	w.inStep(maren, laptop)
	hold, asked := make(chan struct{}), make(chan struct{}, 100)
	fn := func(rw http.ResponseWriter, r *http.Request, next http.Handler) {
		if r.Method == http.MethodGet && strings.HasPrefix(r.URL.Path, "/v1/letters/") {
			asked <- struct{}{}
			select {
			case <-hold:
			case <-r.Context().Done():
			}
		}
		next.ServeHTTP(rw, r)
	}
	w.between.Store(&fn)
	_, err := idris.Household.Pass(t.Context(), ofIdris.ID, household.Passing{Text: "slow"})
	require.NoError(t, err)
	<-asked
	for range 3 {
		w.save(maren, "Ferrylink", "pw", laptop)
		w.save(laptop, "Gullwing", "pw", maren)
	}
	close(hold)
	passed(t, maren, idrisEmail, 1)
}
