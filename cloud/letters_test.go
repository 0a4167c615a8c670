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

// neighbours are two accounts at a cloud that mails.
func neighbours(t *testing.T) (s *Server, l *letters, maren, idris *member) {
	s = newServer(t, loose)
	maren, idris = join(t, s, newAccount(marenAt)), join(t, s, newAccount(idrisAt))
	l = &letters{}
	s.Post = l
	return s, l, maren, idris
}

func put(t *testing.T, s *Server, by *member, id, to, kind, first string, body []byte) int {
	return call(t, s, http.MethodPut, "/v1/letters/"+id, by,
		wire.NewLetter{To: to, Kind: kind, First: first, Body: body}, nil)
}

func waits(t *testing.T, s *Server, who *member) (list []wire.Letter) {
	require.Equal(t, 200, call(t, s, http.MethodGet, "/v1/letters", who, nil, &list))
	return list
}

func TestLetters(t *testing.T) {
	s, _, maren, idris := neighbours(t)
	id := uuid.NewString()
	assert.Equal(t, 204, put(t, s, maren, id, " Idris@Cormorant.example", wire.LetterNote, "Maren", []byte("sealed")))
	assert.Equal(t, 204, put(t, s, maren, id, idrisAt, wire.LetterNote, "Maren", []byte("other")), "sent twice")
	assert.Equal(t, 409, put(t, s, idris, id, idrisAt, wire.LetterNote, "", []byte("x")), "by somebody else")
	for name, code := range map[string]int{
		"no id":      put(t, s, maren, "x", idrisAt, wire.LetterNote, "", []byte("x")),
		"no address": put(t, s, maren, uuid.NewString(), "idris", wire.LetterNote, "", []byte("x")),
		"no kind":    put(t, s, maren, uuid.NewString(), idrisAt, "other", "", []byte("x")),
		"nothing":    put(t, s, maren, uuid.NewString(), idrisAt, wire.LetterNote, "", nil),
		"too much":   put(t, s, maren, uuid.NewString(), idrisAt, wire.LetterNote, "", make([]byte, wire.MaxLetter+1)),
	} {
		assert.Equal(t, 400, code, name)
	}
	assert.Equal(t, 401, put(t, s, nil, uuid.NewString(), idrisAt, wire.LetterNote, "", []byte("x")))

	list := waits(t, s, idris)
	require.Len(t, list, 1)
	assert.Equal(t, wire.Letter{ID: id, Kind: wire.LetterNote, From: marenAt, At: list[0].At}, list[0])
	assert.Empty(t, waits(t, s, maren))
	var l wire.Letter
	require.Equal(t, 200, call(t, s, http.MethodGet, "/v1/letters/"+id, idris, nil, &l))
	assert.Equal(t, "sealed", string(l.Body))
	assert.Equal(t, 404, call(t, s, http.MethodGet, "/v1/letters/"+id, maren, nil, nil), "it isn't hers any more")
	assert.Equal(t, 204, call(t, s, http.MethodDelete, "/v1/letters/"+id, maren, nil, nil))
	assert.Len(t, waits(t, s, idris), 1, "nor can she drop it like that")

	assert.Equal(t, 204, call(t, s, http.MethodPost, "/v1/letters/"+id+"/take-back", idris, wire.TakeBack{To: idrisAt}, nil))
	assert.Len(t, waits(t, s, idris), 1, "it isn't his to take back")
	assert.Equal(t, 204, call(t, s, http.MethodPost, "/v1/letters/"+id+"/take-back", maren, wire.TakeBack{To: idrisAt}, nil))
	assert.Empty(t, waits(t, s, idris))
	put(t, s, maren, id, idrisAt, wire.LetterNote, "Maren", []byte("sealed"))
	assert.Equal(t, 204, call(t, s, http.MethodDelete, "/v1/letters/"+id, idris, nil, nil))
	assert.Empty(t, waits(t, s, idris))
}

// Whoever makes an account later finds what was sent to the address before, and nobody is told whether there is one.
func TestLettersToNobodyYet(t *testing.T) {
	s, l, maren, _ := neighbours(t)
	assert.Equal(t, 204, put(t, s, maren, uuid.NewString(), "wren@cormorant.example", wire.LetterOffer, "Maren", []byte("x")))
	assert.Equal(t, 204, put(t, s, maren, uuid.NewString(), idrisAt, wire.LetterOffer, "Maren", []byte("x")))
	idle(t, s)
	assert.Len(t, l.all(), 2, "both are mailed in the same way")
	s.Post = nil
	wren := join(t, s, newAccount("wren@cormorant.example"))
	assert.Len(t, waits(t, s, wren), 1)
}

func TestLettersEnd(t *testing.T) {
	s, _, maren, idris := neighbours(t)
	now := time.Now()
	s.now = func() time.Time { return now }
	sent := now
	put(t, s, maren, uuid.NewString(), idrisAt, wire.LetterNote, "", []byte("x"))
	put(t, s, maren, uuid.NewString(), idrisAt, wire.LetterOffer, "", []byte("x"))
	left := func(days int) (n int) {
		list, err := s.store.letters(t.Context(), idris.Account, sent.Add(time.Duration(days)*24*time.Hour+time.Second))
		require.NoError(t, err)
		return len(list)
	}
	assert.Equal(t, 2, left(6))
	assert.Equal(t, 1, left(wire.NoteDays))
	assert.Equal(t, 1, left(13))
	assert.Equal(t, 0, left(wire.LetterDays))
	put(t, s, maren, uuid.NewString(), idrisAt, wire.LetterNote, "", []byte("x"))
	put(t, s, idris, uuid.NewString(), marenAt, wire.LetterNote, "", []byte("x"))
	require.NoError(t, s.store.removeAccount(t.Context(), idris.Account))
	var n int
	require.NoError(t, s.store.db.Get(&n, `SELECT count(*) FROM letters`))
	assert.Zero(t, n, "what is to and from an account goes with it")
}

func TestTooManyLetters(t *testing.T) {
	s, _, maren, idris := neighbours(t)
	many := func(by *member, to string, n int) (code int) {
		for range n {
			code = put(t, s, by, uuid.NewString(), to, wire.LetterNote, "", []byte("x"))
		}
		return code
	}
	assert.Equal(t, 204, many(maren, idrisAt, wire.MaxFromOne))
	assert.Equal(t, 507, many(maren, idrisAt, 1))
	assert.Equal(t, 204, many(idris, idrisAt, 1), "others still get through")
	nobody := func(i int) string { return fmt.Sprintf("nobody-%d@cormorant.example", i) }
	for i := range (wire.MaxHanded - wire.MaxFromOne) / wire.MaxFromOne {
		assert.Equal(t, 204, many(maren, nobody(i), wire.MaxFromOne))
	}
	assert.Equal(t, 507, many(maren, nobody(99), 1), "and not to everybody")
}

func TestMailsThatALetterWaits(t *testing.T) {
	s, l, maren, idris := neighbours(t)
	put(t, s, maren, uuid.NewString(), idrisAt, wire.LetterNote, "Maren", []byte("x"))
	put(t, s, maren, uuid.NewString(), idrisAt, wire.LetterNote, "Maren", []byte("y"))
	put(t, s, maren, uuid.NewString(), idrisAt, wire.LetterAnswer, "Maren", []byte("z"))
	idle(t, s)
	require.Len(t, l.all(), 1, "one in an hour, and none for what devices say to each other")
	m := l.all()[0]
	assert.Equal(t, idrisAt, m.to)
	assert.Equal(t, "Maren passed you something", m.subject)
	assert.NotContains(t, m.text, "http")
	assert.NotContains(t, m.text, "@")

	put(t, s, idris, uuid.NewString(), marenAt, wire.LetterNote, "Win at www.harbour.example", []byte("x"))
	put(t, s, idris, uuid.NewString(), "wren@cormorant.example", wire.LetterOffer, "www.harbour.example", []byte("x"))
	put(t, s, idris, uuid.NewString(), "wren@elsewhere.example", wire.LetterNote, "Idris", []byte("x"))
	idle(t, s)
	require.Len(t, l.all(), 3, "a note to nobody says nothing")
	assert.Equal(t, "Win passed you something", l.all()[1].subject)
	assert.Contains(t, l.all()[2].subject, "Somebody", "what is no first name isn't repeated")
	for _, m := range l.all() {
		assert.NotContains(t, m.subject+m.text, "www")
	}
}

func TestMailsAreSwitchedOff(t *testing.T) {
	s, l, maren, idris := neighbours(t)
	var m wire.LetterMail
	require.Equal(t, 200, call(t, s, http.MethodGet, "/v1/letters/mail", idris, nil, &m))
	assert.True(t, m.On)
	require.Equal(t, 204, call(t, s, http.MethodPut, "/v1/letters/mail", idris, wire.LetterMail{}, nil))
	require.Equal(t, 200, call(t, s, http.MethodGet, "/v1/letters/mail", idris, nil, &m))
	assert.False(t, m.On)
	put(t, s, maren, uuid.NewString(), idrisAt, wire.LetterNote, "Maren", []byte("x"))
	idle(t, s)
	assert.Empty(t, l.all())
	assert.Len(t, waits(t, s, idris), 1)
	require.Equal(t, 204, call(t, s, http.MethodPut, "/v1/letters/mail", idris, wire.LetterMail{On: true}, nil))
}

// Nobody has mails written to the whole world.
func TestOneSendersMailsAreFew(t *testing.T) {
	s, l, maren, _ := neighbours(t)
	for i := range 2 * mailsFromOne {
		put(t, s, maren, uuid.NewString(), fmt.Sprintf("nobody-%d@cormorant.example", i), wire.LetterOffer, "Maren",
			[]byte(strings.Repeat("x", 10)))
	}
	idle(t, s)
	assert.Len(t, l.all(), mailsFromOne)
}
