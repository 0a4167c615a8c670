package cloud

import (
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"redlocket/core/keys"
	"redlocket/core/wire"
)

var lateKey, freshKey = key(11), key(12)

// withLate is an account with two devices, of which the first has told a late key; tick has what waits be asked for so
// much earlier.
func withLate(t *testing.T) (s *Server, a, b *member, tick func(time.Duration)) {
	s = newServer(t, loose)
	a = join(t, s, newAccount("maren@cormorant.example"))
	b, code := signIn(t, s, signInKey, wire.ProofSignIn, "maren@cormorant.example")
	require.Equal(t, 200, code)
	require.Equal(t, 204, tellKeys(t, s, a, signInKey, lateKey))
	return s, a, b, func(d time.Duration) {
		_, err := s.store.db.Exec(`UPDATE sessions SET late_due = late_due - ?`, d.Milliseconds())
		require.NoError(t, err)
	}
}

func tellKeys(t *testing.T, s *Server, by *member, present keys.Key, late ...keys.Key) int {
	in := wire.LateKeys{Keys: [][]byte{}}
	for _, k := range late {
		in.Keys = append(in.Keys, k.Public())
	}
	return prove(t, s, "PUT", "/v1/late/keys", by, present, wire.ProofSignIn, in, nil)
}

func askLate(t *testing.T, s *Server, by *member, k keys.Key, purpose string) int {
	return prove(t, s, "POST", "/v1/late", by, k, purpose, wire.LateCredentials{
		Params: keys.DefaultParams(make([]byte, keys.SaltSize)), SignIn: slots(freshKey), Wrapped: []byte("new"),
	}, nil)
}

func takeLate(t *testing.T, s *Server, by *member, k, fresh keys.Key) int {
	return prove(t, s, "POST", "/v1/late/take", by, k, wire.ProofLate, wire.TakeLate{SignIn: slots(fresh)}, nil)
}

func whatWaits(t *testing.T, s *Server, by *member) (l wire.Late) {
	require.Equal(t, 200, call(t, s, "GET", "/v1/late", by, nil, &l))
	return l
}

func TestLateCredentials(t *testing.T) {
	s, a, b, tick := withLate(t)
	assert.Equal(t, 401, tellKeys(t, s, b, freshKey, lateKey), "without a present key")
	assert.Equal(t, 400, prove(t, s, "PUT", "/v1/late/keys", b, signInKey, wire.ProofSignIn,
		wire.LateKeys{Keys: [][]byte{[]byte("short")}}, nil))
	for name, code := range map[string]int{
		"by another key":          askLate(t, s, a, freshKey, wire.ProofLate),
		"by the sign-in key":      askLate(t, s, a, signInKey, wire.ProofLate),
		"as another kind":         askLate(t, s, a, lateKey, wire.ProofSignIn),
		"on a device without one": askLate(t, s, b, lateKey, wire.ProofLate),
		"without a proof":         call(t, s, "POST", "/v1/late", a, wire.LateCredentials{}, nil),
		"without a signature":     askLate(t, s, nil, lateKey, wire.ProofLate),
	} {
		assert.Equal(t, 401, code, name)
	}
	assert.Empty(t, whatWaits(t, s, a))
	assert.Equal(t, 404, takeLate(t, s, a, lateKey, freshKey), "nothing waits")

	require.Equal(t, 200, askLate(t, s, a, lateKey, wire.ProofLate))
	l := whatWaits(t, s, b)
	assert.Equal(t, a.device, l.Device)
	assert.InDelta(t, time.Hour.Milliseconds(), l.Due-time.Now().UnixMilli(), 5000)
	require.Equal(t, 204, tellKeys(t, s, b, signInKey, key(13)))
	assert.Equal(t, 409, askLate(t, s, b, key(13), wire.ProofLate), "one device at a time")
	assert.Equal(t, 404, takeLate(t, s, b, key(13), freshKey), "by the device that asked")
	assert.Equal(t, 401, takeLate(t, s, b, lateKey, freshKey))
	tick(59 * time.Minute)
	assert.Equal(t, 409, takeLate(t, s, a, lateKey, freshKey), "early")
	tick(2 * time.Minute)
	assert.Equal(t, 404, takeLate(t, s, a, lateKey, key(14)), "another key than was asked for")
	_, code := signIn(t, s, freshKey, wire.ProofSignIn, "maren@cormorant.example")
	assert.Equal(t, 401, code, "it isn't in force yet")
	require.Equal(t, 204, takeLate(t, s, a, lateKey, freshKey))
	assert.Equal(t, 204, takeLate(t, s, a, lateKey, freshKey), "once more, after a lost answer")
	assert.Empty(t, whatWaits(t, s, b))
	m, code := signIn(t, s, freshKey, wire.ProofSignIn, "maren@cormorant.example")
	assert.Equal(t, 200, code)
	assert.Equal(t, []byte("new"), m.Wrapped)
	_, code = signIn(t, s, signInKey, wire.ProofSignIn, "maren@cormorant.example")
	assert.Equal(t, 401, code)
	_, code = signIn(t, s, recoveryKey, wire.ProofRecovery, "maren@cormorant.example")
	assert.Equal(t, 200, code, "the sheet stays")
	list, err := s.store.formers(t.Context(), a.Account, s.now())
	require.NoError(t, err)
	assert.Len(t, list, 1, "what was replaced can be brought back")
}

func TestWhatEndsLateCredentials(t *testing.T) {
	for name, end := range map[string]func(t *testing.T, s *Server, a, b *member){
		"another device": func(t *testing.T, s *Server, _, b *member) {
			require.Equal(t, 204, call(t, s, "DELETE", "/v1/late", b, nil, nil))
		},
		"a present key": func(t *testing.T, s *Server, _, b *member) {
			require.Equal(t, 204, prove(t, s, "PUT", "/v1/credentials", b, signInKey, wire.ProofSignIn,
				wire.NewCredentials{KeepSessions: true, Credentials: wire.Credentials{
					Params: keys.DefaultParams(make([]byte, keys.SaltSize)), SignIn: slots(key(15)), Wrapped: []byte("x"),
				}}, nil))
		},
		"the end of the device": func(t *testing.T, s *Server, a, b *member) {
			require.Equal(t, 204, call(t, s, "DELETE", "/v1/devices/"+a.device, b, nil, nil))
		},
	} {
		t.Run(name, func(t *testing.T) {
			s, a, b, tick := withLate(t)
			require.Equal(t, 200, askLate(t, s, a, lateKey, wire.ProofLate))
			end(t, s, a, b)
			tick(2 * time.Hour)
			assert.Contains(t, []int{401, 404}, takeLate(t, s, a, lateKey, freshKey))
			assert.Empty(t, whatWaits(t, s, b))
		})
	}
	s, a, _, _ := withLate(t)
	require.Equal(t, 200, askLate(t, s, a, lateKey, wire.ProofLate))
	in := newAccount("wren@cormorant.example")
	in.Device = uuid.NewString()
	other := join(t, s, in)
	assert.Empty(t, whatWaits(t, s, other), "another account's")
	require.Equal(t, 204, call(t, s, "DELETE", "/v1/late", other, nil, nil))
	assert.NotEmpty(t, whatWaits(t, s, a))
}
