package app_test

import (
	"encoding/json"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/jmoiron/sqlx"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"redlocket/app"
	"redlocket/app/helping"
	"redlocket/app/store"
	"redlocket/core/keys"
	"redlocket/core/secret"
	"redlocket/core/share"
	"redlocket/core/vault"
	"redlocket/core/wire"
)

const boEmail = "bo@harbour.example"

const chosen = "gulls over a wet slipway"

// helped is a vault with people who are to help its owner.
type helped struct {
	*world
	maren   *app.Vault
	helpers []*app.Vault
	peers   []string
	code    string
	folder  *store.Folder
	fresh   *app.Device // that has nothing
}

func newHelped(t *testing.T, helpers int) *helped {
	w := newWorld(t)
	w.cloud.SetClock(w.clock)
	h := &helped{world: w, maren: w.create(w.device("desk"))}
	h.code = sheetCode(t, h.maren)
	s, err := h.maren.Sheets.Sheet(t.Context())
	require.NoError(t, err)
	require.NoError(t, h.maren.Sheets.Check(t.Context(), app.TypedSheet{
		CarriedGroup: 1, Carried: s.Carried[0], RecoveryGroup: 1, Recovery: s.Recovery[0],
	}))
	for i, address := range []string{idrisEmail, wrenEmail, boEmail}[:helpers] {
		v := w.createFor(w.device(address), []string{"Idris Vane", "Wren Tolliver", "Bo Marsh"}[i], address)
		h.helpers = append(h.helpers, v)
		h.peers = append(h.peers, w.known(h.maren, v).ID)
	}
	w.save(h.maren, "Ferrylink", "pw-ferry")
	w.inStep(h.maren)
	h.folder, err = store.In(t.TempDir())
	require.NoError(t, err)
	h.fresh = h.deviceIn(h.folder)
	return h
}

func (h *helped) arrange(need int) {
	h.t.Helper()
	err := h.maren.Helpers.Arrange(h.t.Context(), app.Helpers{
		Peers: h.peers, Need: need, Code: h.code, Password: secret.New(master),
	})
	require.NoError(h.t, err)
	for _, v := range h.helpers {
		soon(h.t, "they hold it", func() bool { return len(held(h.t, v)) == 1 })
	}
}

func held(t testing.TB, v *app.Vault) []helping.Held {
	list, err := v.Helping.Held()
	require.NoError(t, err)
	return list
}

func (h *helped) ask() app.Seeking {
	h.t.Helper()
	s, err := h.fresh.AskHelp(h.t.Context(), app.AskHelp{
		Email: email, Cloud: h.url, Password: secret.New(chosen), Repeat: secret.New(chosen), DeviceName: "new",
	})
	require.NoError(h.t, err)
	require.Len(h.t, s.Words, keys.IntroductionWords)
	return s
}

func (h *helped) help(v *app.Vault, words string) (time.Time, error) {
	v.Guard.Given()
	return v.Helping.Help(h.t.Context(), held(h.t, v)[0].ID, words)
}

func (h *helped) take() (*app.Vault, error) {
	return h.fresh.TakeHelp(h.t.Context(), secret.New(chosen))
}

func (h *helped) waits() *int {
	n, err := h.fresh.HelpState(h.t.Context())
	require.NoError(h.t, err)
	return &n.Helping
}

func TestTwoOfThreeHelp(t *testing.T) {
	t.Parallel()
	h := newHelped(t, 3)
	h.arrange(2)
	soon(t, "the owner sees who holds it", func() bool {
		require.NoError(t, h.maren.Helping.Collect(t.Context()))
		o, ok, err := h.maren.Helpers.Hand()
		require.NoError(t, err)
		return ok && !o.Stale && o.Helpers[0].Holds && o.Helpers[1].Holds && o.Helpers[2].Holds
	})
	s := h.ask()
	soon(t, "every device of the owner is told", func() bool {
		require.NoError(t, h.maren.Helping.Collect(t.Context()))
		return len(h.maren.Helping.Asked()) == 1
	})
	soon(t, "and so are those who help", func() bool { return held(t, h.helpers[0])[0].Asks == 1 })
	_, err := h.take()
	require.Error(t, err, "nobody has helped")
	words := strings.Join(s.Words, " ")
	_, err = h.help(h.helpers[0], words)
	require.NoError(t, err)
	assert.Equal(t, 1, *h.waits())
	_, err = h.take()
	require.Error(t, err, "one of two isn't enough")
	_, err = h.help(h.helpers[0], words)
	require.Error(t, err, "nobody helps twice")
	_, err = h.help(h.helpers[2], strings.ToUpper(words))
	require.NoError(t, err)
	v, err := h.take()
	require.NoError(t, err)
	assert.Equal(t, "pw-ferry", password(t, v, titled(t, v, "Ferrylink")[0]))
	assert.Equal(t, "new", v.Profile().DeviceName)
	_, asks, err := h.fresh.Seeking(t.Context())
	require.NoError(t, err)
	assert.False(t, asks, "nothing is left of it")
	v.Lock()
	v, err = h.fresh.Unlock(t.Context(), v.Profile().ID, secret.New(chosen))
	require.NoError(t, err)
	o, ok, err := v.Helpers.Hand()
	require.NoError(t, err)
	assert.True(t, ok && !o.Stale, "the hand is still there")
}

func TestOneHelpsAfterSevenDays(t *testing.T) {
	t.Parallel()
	h := newHelped(t, 1)
	h.arrange(1)
	s := h.ask()
	due, err := h.help(h.helpers[0], strings.Join(s.Words, " "))
	require.NoError(t, err)
	assert.WithinDuration(t, h.helpers[0].Helping.Now().Add(share.HelpWait), due, time.Minute)
	_, err = h.take()
	require.Error(t, err)
	st, err := h.fresh.HelpState(t.Context())
	require.NoError(t, err)
	assert.Equal(t, 1, st.Helping)
	assert.Empty(t, st.Parts, "the helper's own program holds it back")
	assert.Empty(t, st.Sealed)
	// The program ends meanwhile: what is asked for stays, and opens with the password that was chosen.
	h.fresh = h.deviceIn(h.folder)
	again, ok, err := h.fresh.Seeking(t.Context())
	require.NoError(t, err)
	require.True(t, ok)
	assert.Empty(t, again.Words)
	_, err = h.fresh.ReadWords(t.Context(), secret.New("another one entirely"))
	require.Error(t, err)
	_, err = h.fresh.ReadWords(t.Context(), secret.New(chosen))
	require.NoError(t, err)
	again, _, _ = h.fresh.Seeking(t.Context())
	assert.Equal(t, s.Words, again.Words)
	h.now.Add(share.HelpWait.Milliseconds() - time.Hour.Milliseconds())
	require.NoError(t, h.helpers[0].Helping.Collect(t.Context()))
	_, err = h.take()
	require.Error(t, err)
	h.now.Add(2 * time.Hour.Milliseconds())
	require.NoError(t, h.helpers[0].Helping.Collect(t.Context()))
	v, err := h.take()
	require.NoError(t, err)
	assert.Equal(t, "pw-ferry", password(t, v, titled(t, v, "Ferrylink")[0]))
}

func TestTheOwnerStopsIt(t *testing.T) {
	t.Parallel()
	h := newHelped(t, 1)
	h.arrange(1)
	s := h.ask()
	_, err := h.help(h.helpers[0], strings.Join(s.Words, " "))
	require.NoError(t, err)
	soon(t, "the owner sees it", func() bool {
		require.NoError(t, h.maren.Helping.Collect(t.Context()))
		return len(h.maren.Helping.Asked()) == 1 && h.maren.Helping.Asked()[0].Helping == 1
	})
	require.NoError(t, h.maren.Helping.Stop(t.Context()))
	h.now.Add(2 * share.HelpWait.Milliseconds())
	require.NoError(t, h.helpers[0].Helping.Collect(t.Context()))
	st, err := h.fresh.HelpState(t.Context())
	require.NoError(t, err)
	assert.Equal(t, wire.HelpState{Stopped: true}, st)
	_, err = h.take()
	require.ErrorContains(t, err, "stopped")
	assert.Empty(t, held(t, h.helpers[0])[0].Given, "nothing waits at the helper's either")
}

func TestAHelperTakesItBack(t *testing.T) {
	t.Parallel()
	h := newHelped(t, 1)
	h.arrange(1)
	_, err := h.help(h.helpers[0], strings.Join(h.ask().Words, " "))
	require.NoError(t, err)
	id := held(t, h.helpers[0])[0].ID
	require.NoError(t, h.helpers[0].Helping.TakeBack(t.Context(), id))
	h.now.Add(2 * share.HelpWait.Milliseconds())
	require.NoError(t, h.helpers[0].Helping.Collect(t.Context()))
	_, err = h.take()
	require.Error(t, err)
	h.helpers[0].Guard.Given()
	require.NoError(t, h.helpers[0].Helping.Drop(t.Context(), id))
	assert.Empty(t, held(t, h.helpers[0]))
}

// A sheet that takes the place of another one is parted anew among the same people.
func TestANewSheetIsPartedAnew(t *testing.T) {
	t.Parallel()
	h := newHelped(t, 2)
	h.arrange(2)
	before := held(t, h.helpers[0])[0]
	h.now.Add(1000)
	require.NoError(t, h.maren.Sheets.New(t.Context()))
	s, err := h.maren.Sheets.Sheet(t.Context())
	require.NoError(t, err)
	require.NoError(t, h.maren.Sheets.Check(t.Context(), app.TypedSheet{
		CarriedGroup: 1, Carried: s.Carried[0], RecoveryGroup: 1, Recovery: s.Recovery[0], Password: secret.New(master),
	}))
	for _, v := range h.helpers {
		soon(t, "the new part comes in the place of the old one", func() bool {
			list := held(t, v)
			return len(list) == 1 && list[0].ID != before.ID && list[0].Since.After(before.Since)
		})
	}
	o, _, err := h.maren.Helpers.Hand()
	require.NoError(t, err)
	assert.False(t, o.Stale)
	words := strings.Join(h.ask().Words, " ")
	for _, v := range h.helpers {
		_, err := h.help(v, words)
		require.NoError(t, err)
	}
	_, err = h.take()
	require.NoError(t, err)
}

// Who takes other keys is told that their helpers don't know them by these.
func TestOtherKeysNeedOtherHelpers(t *testing.T) {
	t.Parallel()
	h := newHelped(t, 1)
	h.arrange(1)
	h.maren.Guard.Given()
	require.NoError(t, h.maren.Household.NewKeys(t.Context()))
	o, ok, err := h.maren.Helpers.Hand()
	require.NoError(t, err)
	assert.True(t, ok && o.Stale)
}

func TestNobodyHelpsAnyMore(t *testing.T) {
	t.Parallel()
	h := newHelped(t, 2)
	h.arrange(2)
	require.ErrorContains(t, h.maren.Helpers.End(t.Context(), secret.New("not this")), "password")
	require.NoError(t, h.maren.Helpers.End(t.Context(), secret.New(master)))
	_, ok, err := h.maren.Helpers.Hand()
	require.NoError(t, err)
	assert.False(t, ok)
	h.ask()
	for _, v := range h.helpers {
		require.NoError(t, v.Helping.Collect(t.Context()))
		assert.True(t, held(t, v)[0].Over)
		assert.Zero(t, held(t, v)[0].Asks)
	}
}

func TestWhoCanBeAskedToHelp(t *testing.T) {
	t.Parallel()
	h := newHelped(t, 2)
	for name, a := range map[string]app.Helpers{
		"the wrong password":  {Peers: h.peers, Need: 2, Code: h.code, Password: secret.New("no")},
		"another code":        {Peers: h.peers, Need: 2, Code: strings.Repeat("0", 40), Password: secret.New(master)},
		"nobody":              {Need: 1, Code: h.code, Password: secret.New(master)},
		"more than there are": {Peers: h.peers, Need: 3, Code: h.code, Password: secret.New(master)},
		"a stranger":          {Peers: []string{"nobody", h.peers[0]}, Need: 2, Code: h.code, Password: secret.New(master)},
		"one twice":           {Peers: []string{h.peers[0], h.peers[0]}, Need: 2, Code: h.code, Password: secret.New(master)},
	} {
		require.Error(t, h.maren.Helpers.Arrange(t.Context(), a), name)
	}
	_, ok, err := h.maren.Helpers.Hand()
	require.NoError(t, err)
	assert.False(t, ok)
}

// A cloud that puts a key of its own in the place of the one that asks gets nothing: the words are others.
func TestACloudThatAsksInBetween(t *testing.T) {
	t.Parallel()
	h := newHelped(t, 2)
	h.arrange(2)
	between, err := keys.NewSeeker(email, testRand{})
	require.NoError(t, err)
	h.whenAsked(func(list []wire.HeldHand) {
		for i := range list {
			for k := range list[i].Asked {
				list[i].Asked[k].PublicKey = between.Hello()
			}
		}
	})
	words := strings.Join(h.ask().Words, " ")
	for range 5 {
		_, err = h.help(h.helpers[0], words)
		require.ErrorIs(t, err, keys.ErrWords)
	}
	_, err = h.help(h.helpers[0], words)
	require.ErrorContains(t, err, "too often")
	assert.Zero(t, *h.waits())
}

// whenAsked has something done to what helpers are told.
func (h *helped) whenAsked(change func([]wire.HeldHand)) {
	f := func(rw http.ResponseWriter, r *http.Request, c http.Handler) {
		if r.URL.Path != "/v1/hands" {
			c.ServeHTTP(rw, r)
			return
		}
		rec := httptest.NewRecorder()
		c.ServeHTTP(rec, r)
		var list []wire.HeldHand
		if json.Unmarshal(rec.Body.Bytes(), &list) == nil {
			change(list)
		}
		_ = json.NewEncoder(rw).Encode(list)
	}
	h.between.Store(&f)
}

// What a cloud shows earlier than it may opens nothing, as long as the helpers' programs hold their parts back; and a
// part that was made up isn't believed.
func TestACloudThatIsInAHurry(t *testing.T) {
	t.Parallel()
	h := newHelped(t, 1)
	h.arrange(1)
	_, err := h.help(h.helpers[0], strings.Join(h.ask().Words, " "))
	require.NoError(t, err)
	var sealed []byte
	db, err := sqlx.Open("sqlite", "file:"+h.file+"?_pragma=busy_timeout(10000)")
	require.NoError(t, err)
	defer db.Close()
	require.NoError(t, db.GetContext(t.Context(), &sealed, `SELECT sealed FROM hands`))
	other, err := keys.NewHelper(email, "abacus abdomen abdominal abide abiding ability")
	require.NoError(t, err)
	f := func(rw http.ResponseWriter, r *http.Request, c http.Handler) {
		if !strings.HasPrefix(r.URL.Path, "/v1/help/") {
			c.ServeHTTP(rw, r)
			return
		}
		_, _ = io.Copy(io.Discard, r.Body)
		forged, _ := other.Help(nil, []byte("{}"))
		_ = json.NewEncoder(rw).Encode(wire.HelpState{
			Helping: 1, Need: 1, Parts: [][]byte{forged, {1, 2}}, Sealed: sealed,
		})
	}
	h.between.Store(&f)
	_, err = h.take()
	require.ErrorContains(t, err, "doesn’t open")
	_, ok, err := h.fresh.Seeking(t.Context())
	require.NoError(t, err)
	assert.True(t, ok, "what was asked for stays")
}

// Nothing of the vault is at the helpers', and nothing at the cloud that opens it.
func TestWhatHelpersHold(t *testing.T) {
	t.Parallel()
	h := newHelped(t, 2)
	h.arrange(2)
	for _, v := range h.helpers {
		list, err := v.Book.Entries(func(e vault.Entry) bool { return e.Type == vault.TypeHand })
		require.NoError(t, err)
		require.Len(t, list, 1)
		text := list[0].Text(vault.FieldHand)
		assert.NotContains(t, text, "pw-ferry")
		assert.NotContains(t, strings.ReplaceAll(text, "-", ""), strings.ReplaceAll(h.code, "-", ""))
	}
}

// The cloud sets it down, and its answer is lost, or the program ends then: the page says that it was cut short, and
// not that all is well.
func TestChoosingIsCutShort(t *testing.T) {
	t.Parallel()
	h := newHelped(t, 2)
	lost := func(act func() error) {
		lose := between(func(rw http.ResponseWriter, r *http.Request, next http.Handler) {
			if r.Method != http.MethodPut || r.URL.Path != "/v1/hand" {
				next.ServeHTTP(rw, r)
				return
			}
			next.ServeHTTP(httptest.NewRecorder(), r)
			rw.WriteHeader(http.StatusBadGateway)
		})
		h.between.Store(&lose)
		require.Error(t, act())
		h.between.Store(nil)
		require.NoError(t, h.maren.Helping.Collect(t.Context()))
	}
	arrange := func() error {
		return h.maren.Helpers.Arrange(t.Context(), app.Helpers{
			Peers: h.peers, Need: 2, Code: h.code, Password: secret.New(master),
		})
	}
	end := func() error { return h.maren.Helpers.End(t.Context(), secret.New(master)) }
	is := func(there, unfinished bool, helpers int) {
		t.Helper()
		own, ok, err := h.maren.Helpers.Hand()
		require.NoError(t, err)
		assert.Equal(t, there, ok)
		assert.Equal(t, unfinished, own.Unfinished)
		assert.Len(t, own.Helpers, helpers)
	}
	is(false, false, 0)
	lost(arrange)
	is(true, true, 0)
	h.ask() // whoever was named can be asked, and so it can be stopped
	soon(t, "it is seen", func() bool {
		own, _, err := h.maren.Helpers.Hand()
		require.NoError(t, err)
		require.NoError(t, h.maren.Helping.Collect(t.Context()))
		return len(own.Asked) == 1
	})
	require.NoError(t, h.maren.Helping.Stop(t.Context()))
	require.NoError(t, arrange())
	is(true, false, 2)
	lost(arrange)
	is(true, true, 2)
	require.NoError(t, arrange())
	is(true, false, 2)
	lost(end)
	is(true, true, 2)
	require.NoError(t, end())
	is(false, false, 0)
}
