package cloud

import (
	"fmt"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"redlocket/core/wire"
)

const week = 7 * 24 * time.Hour

// helpedBy has Maren helped by Idris, and whoever else.
func helpedBy(t *testing.T, s *Server, maren *member, need int, wait time.Duration, addresses ...string) string {
	in := wire.NewHand{Hand: uuid.NewString(), Need: need, Wait: wait.Milliseconds(), Sealed: []byte("sealed")}
	for _, a := range addresses {
		in.Helpers = append(in.Helpers, wire.HandHelper{Address: a, Part: []byte("part of " + a)})
	}
	require.Equal(t, 204, setHand(t, s, maren, in))
	return in.Hand
}

func setHand(t *testing.T, s *Server, by *member, in wire.NewHand) int {
	return prove(t, s, http.MethodPut, "/v1/hand", by, signInKey, wire.ProofSignIn, in, nil)
}

func askHelp(t *testing.T, s *Server, email string) wire.HelpAsked {
	var out wire.HelpAsked
	in := wire.AskHelp{Email: email, PublicKey: []byte("hello")}
	require.Equal(t, 200, call(t, s, http.MethodPost, "/v1/help", nil, in, &out))
	return out
}

func look(t *testing.T, s *Server, email string, a wire.HelpAsked) (out wire.HelpState, code int) {
	code = call(t, s, http.MethodPost, "/v1/help/"+a.ID, nil, wire.LookForHelp{Email: email, Secret: a.Secret}, &out)
	return out, code
}

func helpOn(t *testing.T, s *Server, by *member, hand, id string, in wire.Help) int {
	return call(t, s, http.MethodPost, "/v1/hands/"+hand+"/asked/"+id, by, in, nil)
}

func heldBy(t *testing.T, s *Server, who *member) (list []wire.HeldHand) {
	require.Equal(t, 200, call(t, s, http.MethodGet, "/v1/hands", who, nil, &list))
	return list
}

// later has what was asked be older.
func later(t *testing.T, s *Server, by time.Duration) {
	_, err := s.store.db.Exec(`UPDATE help_asked SET at = at - ?1, due = due - ?1`, by.Milliseconds())
	require.NoError(t, err)
}

func TestHelpingHands(t *testing.T) {
	s, l, maren, idris := neighbours(t)
	now := s.now()
	s.now = func() time.Time { return now }
	hand := helpedBy(t, s, maren, 1, week, strings.ToUpper(idrisAt))
	list := heldBy(t, s, idris)
	require.Len(t, list, 1)
	assert.Equal(t, wire.HeldHand{Hand: hand, Of: marenAt, Part: []byte("part of " + strings.ToUpper(idrisAt)), Asked: []wire.Help{}}, list[0])
	assert.Empty(t, heldBy(t, s, maren))
	require.Equal(t, 204, call(t, s, http.MethodPost, "/v1/hands/"+hand+"/holds", maren, struct{}{}, nil))
	assert.NotEmpty(t, heldBy(t, s, idris)[0].Part, "she is no helper")
	require.Equal(t, 204, call(t, s, http.MethodPost, "/v1/hands/"+hand+"/holds", idris, struct{}{}, nil))
	assert.Empty(t, heldBy(t, s, idris)[0].Part)
	var own wire.Hand
	require.Equal(t, 200, call(t, s, http.MethodGet, "/v1/hand", maren, nil, &own))
	assert.Equal(t, []string{idrisAt}, own.Holds)

	a := askHelp(t, s, marenAt)
	idle(t, s)
	require.Len(t, l.all(), 2, "both are mailed")
	assert.NotContains(t, l.all()[0].text+l.all()[1].text, "http")
	st, code := look(t, s, marenAt, a)
	require.Equal(t, 200, code)
	assert.Equal(t, wire.HelpState{}, st)
	require.Len(t, heldBy(t, s, idris)[0].Asked, 1)
	assert.Equal(t, "hello", string(heldBy(t, s, idris)[0].Asked[0].PublicKey))
	assert.Equal(t, 404, helpOn(t, s, maren, hand, a.ID, wire.Help{Sealed: []byte("x")}), "who asks doesn't help")
	assert.Equal(t, 404, helpOn(t, s, idris, uuid.NewString(), a.ID, wire.Help{}))
	assert.Equal(t, 404, helpOn(t, s, idris, hand, uuid.NewString(), wire.Help{}))
	require.Equal(t, 204, helpOn(t, s, idris, hand, a.ID, wire.Help{Due: now.Add(80 * aDay).UnixMilli()}))
	st, _ = look(t, s, marenAt, a)
	due := now.Add(week).UnixMilli()
	assert.Equal(t, wire.HelpState{Helping: 1, Need: 1, Due: due}, st, "a helper has nobody wait for longer")
	require.Equal(t, 204, helpOn(t, s, idris, hand, a.ID, wire.Help{Sealed: []byte("to who asks")}))
	require.Equal(t, 204, helpOn(t, s, idris, hand, a.ID, wire.Help{Sealed: []byte("something else")}))
	st, _ = look(t, s, marenAt, a)
	assert.Equal(t, [][]byte{[]byte("to who asks")}, st.Parts, "once")
	assert.Empty(t, st.Sealed, "it is too early")
	_, code = look(t, s, idrisAt, a)
	assert.Equal(t, 404, code)
	_, code = look(t, s, marenAt, wire.HelpAsked{ID: a.ID, Secret: "x" + a.Secret[1:]})
	assert.Equal(t, 404, code)
	later(t, s, week)
	st, _ = look(t, s, marenAt, a)
	assert.Equal(t, "sealed", string(st.Sealed))

	require.Equal(t, 204, call(t, s, http.MethodPost, "/v1/hand/stop", maren, struct{}{}, nil))
	st, _ = look(t, s, marenAt, a)
	assert.Equal(t, wire.HelpState{Stopped: true}, st)
	assert.Equal(t, 404, helpOn(t, s, idris, hand, a.ID, wire.Help{Sealed: []byte("x")}))
	assert.Empty(t, heldBy(t, s, idris)[0].Asked)
}

// Whether an address has an account, or helpers, shows in nothing, and of what nobody can help nothing is kept.
func TestAskingTellsNothing(t *testing.T) {
	s, _, maren, _ := neighbours(t)
	helpedBy(t, s, maren, 1, week, idrisAt)
	var states []wire.HelpState
	for _, email := range []string{marenAt, idrisAt, "nobody@harbour.example"} {
		a := askHelp(t, s, email)
		st, code := look(t, s, email, a)
		require.Equal(t, 200, code)
		states = append(states, st)
		assert.Len(t, a.Secret, 43)
		require.Equal(t, 200, call(t, s, http.MethodPost, "/v1/help/"+a.ID, nil,
			wire.LookForHelp{Email: email, Secret: a.Secret, End: true}, nil))
		st, code = look(t, s, email, a)
		require.Equal(t, 200, code)
		states = append(states, st)
	}
	for _, st := range states {
		assert.Equal(t, wire.HelpState{}, st)
	}
	for range 3 {
		askHelp(t, s, "nobody@harbour.example")
	}
	var n int
	require.NoError(t, s.store.db.Get(&n, `SELECT count(*) FROM help_asked`))
	assert.Zero(t, n)
}

// Many requests make no room for themselves at the expense of one that is helped.
func TestManyRequests(t *testing.T) {
	s, _, maren, idris := neighbours(t)
	now := s.now()
	s.now = func() time.Time { return now }
	hand := helpedBy(t, s, maren, 1, week, idrisAt)
	a := askHelp(t, s, marenAt)
	require.Equal(t, 204, helpOn(t, s, idris, hand, a.ID, wire.Help{}))
	for range wire.MaxAsked + 5 {
		now = now.Add(time.Second)
		askHelp(t, s, marenAt)
	}
	assert.Len(t, heldBy(t, s, idris)[0].Asked, wire.MaxAsked+1)
	st, _ := look(t, s, marenAt, a)
	assert.Equal(t, 1, st.Helping)
	later(t, s, wire.HelpDays*aDay)
	askHelp(t, s, marenAt)
	assert.Len(t, heldBy(t, s, idris)[0].Asked, 1, "old ones go")
}

func TestHandsThatAreNone(t *testing.T) {
	s, _, maren, idris := neighbours(t)
	good := func() wire.NewHand {
		return wire.NewHand{Hand: uuid.NewString(), Need: 1, Wait: 1, Sealed: []byte("s"),
			Helpers: []wire.HandHelper{{Address: idrisAt, Part: []byte("p")}}}
	}
	for i, change := range []func(*wire.NewHand){
		func(h *wire.NewHand) { h.Hand = "hand" }, func(h *wire.NewHand) { h.Need = 2 }, func(h *wire.NewHand) { h.Need = 0 },
		func(h *wire.NewHand) { h.Sealed = nil }, func(h *wire.NewHand) { h.Sealed = make([]byte, maxSealedHand+1) },
		func(h *wire.NewHand) { h.Helpers = nil }, func(h *wire.NewHand) { h.Wait = -1 },
		func(h *wire.NewHand) { h.Wait = 91 * aDay.Milliseconds() },
		func(h *wire.NewHand) { h.Helpers = append(h.Helpers, h.Helpers[0]) },
		func(h *wire.NewHand) { h.Helpers[0].Address = "nobody" }, func(h *wire.NewHand) { h.Helpers[0].Part = nil },
	} {
		h := good()
		change(&h)
		assert.Equal(t, 400, setHand(t, s, maren, h), "%d", i)
	}
	h := good()
	assert.Equal(t, 401, call(t, s, http.MethodPut, "/v1/hand", maren, h, nil), "without the master password")
	assert.Equal(t, 401, prove(t, s, http.MethodPut, "/v1/hand", maren, recoveryKey, wire.ProofSignIn, h, nil), "with another key")
	require.Equal(t, 204, setHand(t, s, maren, h))
	a := askHelp(t, s, marenAt)
	require.Equal(t, 204, setHand(t, s, maren, wire.NewHand{}))
	st, _ := look(t, s, marenAt, a)
	assert.True(t, st.Stopped, "what was asked of those before is over")
	assert.Empty(t, heldBy(t, s, idris))
	require.Equal(t, 204, prove(t, s, http.MethodPost, "/v1/account/delete", maren, signInKey, wire.ProofSignIn, struct{}{}, nil))
	for _, table := range []string{"hands", "helpers", "help", "help_asked"} {
		var n int
		require.NoError(t, s.store.db.Get(&n, fmt.Sprint(`SELECT count(*) FROM `, table)))
		assert.Zero(t, n, table)
	}
}
