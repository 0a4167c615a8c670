package cloud

import (
	"fmt"
	"net/http"
	"testing"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"redlocket/core/wire"
)

func of2(maren, idris wire.SetMember) []wire.SetMember { return []wire.SetMember{maren, idris} }

// The two of a set's tests: she decides, he may only read.
var (
	decides = wire.SetMember{Email: marenAt, Manage: true, Sealed: []byte("to Maren")}
	reads   = wire.SetMember{Email: idrisAt, Sealed: []byte("to Idris")}
)

func beginSet(t *testing.T, s *Server, by *member, set string, epoch uint32, members ...wire.SetMember) int {
	in := wire.NewSetEpoch{Epoch: epoch, First: "Maren", Members: members}
	return call(t, s, http.MethodPost, "/v1/sets/"+set+"/epochs", by, in, nil)
}

func commitSet(t *testing.T, s *Server, by *member, set string, epoch int, parent string, n uint64, ids ...string) int {
	c := wire.Commit{Parent: parent, Head: wire.Head{Number: n, Blob: fmt.Appendf(nil, "head %d of %d", n, epoch)}}
	for _, id := range ids {
		c.Records = append(c.Records, wire.Record{ID: id, Rev: n, Blob: []byte(id)})
	}
	return call(t, s, http.MethodPost, fmt.Sprintf("/v1/sets/%s/%d/commits", set, epoch), by, c, nil)
}

func setChanges(t *testing.T, s *Server, by *member, set string, epoch int) (c wire.Changes, code int) {
	code = call(t, s, http.MethodGet, fmt.Sprintf("/v1/sets/%s/%d/changes?since=0", set, epoch), by, nil, &c)
	return c, code
}

func setsOf(t *testing.T, s *Server, who *member) (list []wire.SharedSet) {
	require.Equal(t, 200, call(t, s, http.MethodGet, "/v1/sets", who, nil, &list))
	return list
}

func TestSharedSets(t *testing.T) {
	s, l, maren, idris := neighbours(t)
	set := uuid.NewString()
	require.Equal(t, 204, beginSet(t, s, maren, set, 1, decides, reads))
	assert.Equal(t, 409, beginSet(t, s, maren, set, 1, decides, reads), "begun once")
	assert.Equal(t, 409, beginSet(t, s, idris, set, 1, decides, reads))
	assert.Equal(t, 204, commitSet(t, s, maren, set, 1, "", 1, "a", "b"))
	assert.Equal(t, 409, commitSet(t, s, maren, set, 1, "", 1, "a"), "not on top")
	assert.Equal(t, 404, commitSet(t, s, idris, set, 1, hashHex([]byte("head 1 of 1")), 2, "a"), "he may read")
	c, code := setChanges(t, s, idris, set, 1)
	require.Equal(t, 200, code)
	assert.Equal(t, uint64(1), c.Latest)
	assert.Len(t, c.Heads, 1)
	assert.Len(t, c.Records, 2)

	list := setsOf(t, s, idris)
	require.Len(t, list, 1)
	assert.Equal(t, hashHex([]byte("head 1 of 1")), list[0].Tip)
	require.Len(t, list[0].Waiting, 1)
	assert.Empty(t, list[0].Waiting[0].Sealed)
	path := "/v1/sets/" + set + "/boxes/" + list[0].Waiting[0].ID
	var box wire.SetBox
	require.Equal(t, 200, call(t, s, http.MethodGet, path, idris, nil, &box))
	assert.Equal(t, "to Idris", string(box.Sealed))
	assert.Equal(t, 404, call(t, s, http.MethodGet, path, maren, nil, nil), "it isn't hers")
	assert.Equal(t, wire.BoxEpoch, list[0].Waiting[0].Kind)
	idle(t, s)
	require.NotEmpty(t, l.all())
	assert.Contains(t, l.all()[0].text, "Maren", "he is mailed that something waits")
	assert.NotContains(t, l.all()[0].text, set)
	require.Equal(t, 204, call(t, s, http.MethodDelete, "/v1/sets/"+set+"/boxes/"+list[0].Waiting[0].ID, idris, nil, nil))
	assert.Empty(t, setsOf(t, s, idris)[0].Waiting)

	// Another epoch: nothing of the one before is there any more, and who isn't in it is told.
	assert.Equal(t, 404, beginSet(t, s, idris, set, 2, decides, reads), "he may not decide")
	assert.Equal(t, 409, beginSet(t, s, maren, set, 3, decides))
	in := wire.NewSetEpoch{Epoch: 2, Members: []wire.SetMember{decides}, Out: []wire.SetMember{reads}}
	require.Equal(t, 204, call(t, s, http.MethodPost, "/v1/sets/"+set+"/epochs", maren, in, nil))
	_, code = setChanges(t, s, maren, set, 1)
	assert.Equal(t, 409, code)
	c, code = setChanges(t, s, maren, set, 2)
	require.Equal(t, 200, code)
	assert.Zero(t, c.Latest)
	assert.Empty(t, c.Records)
	_, code = setChanges(t, s, idris, set, 2)
	assert.Equal(t, 404, code)
	list = setsOf(t, s, idris)
	require.Len(t, list, 1)
	assert.False(t, list[0].Member)
	assert.Equal(t, wire.BoxFarewell, list[0].Waiting[0].Kind)
	var n int
	require.NoError(t, s.store.db.Get(&n, `SELECT count(*) FROM records`))
	assert.Zero(t, n)

	// The last one who leaves takes it away.
	leave := wire.LeaveSet{Epoch: 2}
	assert.Equal(t, 409, call(t, s, http.MethodPost, "/v1/sets/"+set+"/leave", maren, wire.LeaveSet{Epoch: 1}, nil))
	require.Equal(t, 204, call(t, s, http.MethodPost, "/v1/sets/"+set+"/leave", maren, leave, nil))
	for _, table := range []string{"sets", "members", "heads", "usage WHERE account LIKE '%/%'"} {
		require.NoError(t, s.store.db.Get(&n, `SELECT count(*) FROM `+table))
		assert.Zero(t, n, table)
	}
}

func TestSharedSetsRefuse(t *testing.T) {
	s := newServer(t, loose)
	maren, idris := join(t, s, newAccount(marenAt)), join(t, s, newAccount(idrisAt))
	set := uuid.NewString()
	big := make([]byte, wire.MaxSetBox+1)
	many := []wire.SetMember{decides}
	for i := range wire.MaxMembers {
		many = append(many, wire.SetMember{Email: fmt.Sprintf("m%d@cormorant.example", i), Sealed: []byte("x")})
	}
	for name, code := range map[string]int{
		"no set":         beginSet(t, s, maren, "x", 1, decides),
		"no members":     beginSet(t, s, maren, set, 1),
		"nobody decides": beginSet(t, s, maren, set, 1, reads),
		"twice":          beginSet(t, s, maren, set, 1, decides, decides),
		"too many":       beginSet(t, s, maren, set, 1, many...),
		"nothing in it":  beginSet(t, s, maren, set, 1, wire.SetMember{Email: marenAt, Manage: true}),
		"too large":      beginSet(t, s, maren, set, 1, wire.SetMember{Email: marenAt, Manage: true, Sealed: big}),
		"no address":     beginSet(t, s, maren, set, 1, wire.SetMember{Email: "maren", Manage: true, Sealed: []byte("x")}),
		"epoch 0":        beginSet(t, s, maren, set, 0, decides),
	} {
		assert.Contains(t, []int{400, 404}, code, name)
	}
	assert.Equal(t, 404, beginSet(t, s, maren, set, 2, decides), "there is none")
	assert.Equal(t, 401, beginSet(t, s, nil, set, 1, decides))
	require.Equal(t, 204, beginSet(t, s, maren, set, 1, decides, reads))
	assert.Equal(t, 404, call(t, s, http.MethodGet, "/v1/sets/"+set+"/x/changes?since=0", maren, nil, nil))
	assert.Equal(t, 400, call(t, s, http.MethodGet, "/v1/sets/"+set+"/1/changes?since=x", maren, nil, nil))
	file := uuid.NewString()
	chunk := "/v1/sets/" + set + "/1/files/" + file + "/0"
	assert.Equal(t, 404, call(t, s, http.MethodPut, chunk, idris, []byte("x"), nil), "he may read")
	assert.Equal(t, 404, call(t, s, http.MethodGet, chunk, idris, nil, nil), "nothing there")
	assert.Equal(t, 204, call(t, s, http.MethodPut, chunk, maren, []byte("x"), nil))
	wren := join(t, s, newAccount("wren@cormorant.example"))
	assert.Equal(t, 404, call(t, s, http.MethodGet, chunk, wren, nil, nil))
	for _, path := range []string{"/1/commits", "/leave"} {
		assert.NotEqual(t, 204, call(t, s, http.MethodPost, "/v1/sets/"+set+path, wren, wire.LeaveSet{Epoch: 1}, nil))
	}
	// Whoever has no account is taken in like anybody: nobody is told.
	nobody := wire.SetMember{Email: "nobody@cormorant.example", Sealed: []byte("x")}
	assert.Equal(t, 204, beginSet(t, s, maren, uuid.NewString(), 1, decides, nobody))
}

func TestSharedSetsHaveAQuota(t *testing.T) {
	s, _, maren, _ := neighbours(t)
	s.SetQuota(Quota{Records: 3, Bytes: 1 << 20, Files: 1 << 20})
	a, b := uuid.NewString(), uuid.NewString()
	require.Equal(t, 204, beginSet(t, s, maren, a, 1, decides))
	require.Equal(t, 204, beginSet(t, s, maren, b, 1, decides))
	assert.Equal(t, 204, commitSet(t, s, maren, a, 1, "", 1, "1", "2"))
	assert.Equal(t, 507, commitSet(t, s, maren, b, 1, "", 1, "1", "2"), "those of whoever began them, together")
	assert.Equal(t, 204, commitSet(t, s, maren, b, 1, "", 1, "1"))
	for range wire.MaxSets - 2 {
		require.Equal(t, 204, beginSet(t, s, maren, uuid.NewString(), 1, decides))
	}
	assert.Equal(t, 507, beginSet(t, s, maren, uuid.NewString(), 1, decides))
}

// Whoever deletes their account is in no set any more; what nobody holds is gone.
func TestAnAccountThatEndsLeavesItsSets(t *testing.T) {
	s, _, maren, idris := neighbours(t)
	both, own := uuid.NewString(), uuid.NewString()
	require.Equal(t, 204, beginSet(t, s, maren, both, 1, of2(decides, reads)...))
	require.Equal(t, 204, beginSet(t, s, maren, own, 1, decides))
	require.Equal(t, 204, commitSet(t, s, maren, both, 1, "", 1, "a"))
	var account string
	require.NoError(t, s.store.db.Get(&account, `SELECT account FROM accounts WHERE email = ?`, marenAt))
	require.NoError(t, s.store.removeAccount(t.Context(), account))
	list := setsOf(t, s, idris)
	require.Len(t, list, 1)
	assert.Equal(t, both, list[0].ID)
	c, code := setChanges(t, s, idris, both, 1)
	assert.Equal(t, 200, code)
	assert.Len(t, c.Records, 1, "the others have it still")
	var n int
	require.NoError(t, s.store.db.Get(&n, `SELECT count(*) FROM sets`))
	assert.Equal(t, 1, n)
}
