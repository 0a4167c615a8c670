package app_test

import (
	"bytes"
	"encoding/hex"
	"encoding/json"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"redlocket/app"
	"redlocket/app/cloudclient"
	"redlocket/app/records"
	"redlocket/app/syncing"
	"redlocket/core/ledger"
	"redlocket/core/secret"
	"redlocket/core/vault"
	"redlocket/core/wire"
)

// The cloud turns hostile: a proxy between it and the laptop changes what the
// laptop pulls. Whatever it does is detected and named, nothing on the laptop is
// overwritten, the user can go on working, and once the cloud behaves again both
// devices agree.
func TestHostileCloud(t *testing.T) {
	t.Parallel()
	if testing.Short() {
		t.Skip("long: run without -short")
	}
	flip := func(b []byte) []byte { c := bytes.Clone(b); c[len(c)/2] ^= 4; return c }
	cases := []struct {
		name string
		do   func(old, now *wire.Changes) // old is everything as it was, now is what comes
		want ledger.Kind
	}{
		{"alters a record", func(_, c *wire.Changes) { c.Records[0].Blob = flip(c.Records[0].Blob) }, ledger.BadRecord},
		{"cuts a record", func(_, c *wire.Changes) { c.Records[0].Blob = c.Records[0].Blob[:40] }, ledger.BadRecord},
		{"swaps records between ids", func(_, c *wire.Changes) {
			c.Records[0].Blob, c.Records[1].Blob = c.Records[1].Blob, c.Records[0].Blob
		}, ledger.BadRecord},
		{"drops a record", func(_, c *wire.Changes) { c.Records = c.Records[1:] }, ledger.Incomplete},
		{
			"replays an old record",
			func(old, c *wire.Changes) { c.Records[0] = findBytes(old.Records, c.Records[0].ID) },
			ledger.Incomplete,
		},
		{"replays one under a new revision", func(old, c *wire.Changes) {
			c.Records[0].Blob = findBytes(old.Records, c.Records[0].ID).Blob
		}, ledger.BadRecord},
		{"invents a record", func(_, c *wire.Changes) {
			c.Records = append(c.Records, wire.Record{ID: "invented", Rev: 1, Blob: flip(c.Records[0].Blob)})
		}, ledger.BadRecord},
		{"alters a head", func(_, c *wire.Changes) { c.Heads[0].Blob = flip(c.Heads[0].Blob) }, ledger.BadHead},
		{"reorders heads", func(_, c *wire.Changes) {
			c.Heads[0].Blob, c.Heads[1].Blob = c.Heads[1].Blob, c.Heads[0].Blob
		}, ledger.BadHead},
		{"drops the newest head", func(_, c *wire.Changes) { c.Heads = c.Heads[:len(c.Heads)-1] }, ledger.Incomplete},
		{"invents a head", func(_, c *wire.Changes) {
			c.Latest++
			c.Heads = append(c.Heads, wire.Head{Number: c.Latest, Blob: flip(c.Heads[0].Blob)})
		}, ledger.BadHead},
		{"rolls back", func(old, c *wire.Changes) { *c = wire.Changes{Latest: old.Latest - 1} }, ledger.RolledBack},
	}
	w := newWorld(t)
	desk := w.create(w.device("desk"))
	laptop := w.join(w.device("laptop"), desk)
	a, b := records.NewID(), records.NewID()
	require.NoError(t, desk.Items.Save(t.Context(), a, login("Lanternfish", "first")))
	require.NoError(t, desk.Items.Save(t.Context(), b, login("Brackish", "first")))
	w.inStep(desk, laptop)
	require.Eventually(
		t,
		func() bool { _, err := laptop.Items.Entry(b); return err == nil },
		5*time.Second,
		time.Millisecond,
	)

	for i, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			w.inStep(desk, laptop)
			require.NoError(t, laptop.Sync.Sync(t.Context()))
			var all wire.Changes
			require.NoError(t, json.Unmarshal(pullAll(t, w, desk), &all))
			before := password(t, laptop, a)

			// The laptop is cut off while the desk makes two commits.
			hold := between(func(rw http.ResponseWriter, r *http.Request, next http.Handler) {
				if fromLaptop(r, laptop) {
					rw.WriteHeader(http.StatusBadGateway)
					return
				}
				next.ServeHTTP(rw, r)
			})
			w.between.Store(&hold)
			fresh := strings.Repeat("x", i+1)
			require.NoError(t, desk.Items.Save(t.Context(), a, vault.Changes{vault.FieldPassword: secret.New(fresh)}))
			w.inStep(desk)
			require.NoError(t, desk.Items.Save(t.Context(), b, vault.Changes{vault.FieldNotes: fresh}))
			w.inStep(desk)

			lie := between(func(rw http.ResponseWriter, r *http.Request, next http.Handler) {
				if !fromLaptop(r, laptop) || r.URL.Path != "/v1/changes" {
					next.ServeHTTP(rw, r)
					return
				}
				rec := httptest.NewRecorder()
				next.ServeHTTP(rec, r)
				var out wire.Changes
				err := json.Unmarshal(rec.Body.Bytes(), &out)
				again := strings.Contains(c.name, "newest head") && len(out.Heads) > 0 // it is asked for again
				if err == nil && (len(out.Records) > 1 || again) {
					c.do(&all, &out)
				}
				_ = json.NewEncoder(rw).Encode(out)
			})
			w.between.Store(&lie)
			err := laptop.Sync.Sync(t.Context())
			var f *ledger.Fault
			require.ErrorAs(t, err, &f)
			assert.Equal(t, c.want, f.Kind, f.Error())
			assert.Equal(t, before, password(t, laptop, a), "nothing local was overwritten")
			require.Eventually(
				t,
				func() bool { return laptop.Sync.Status().State == syncing.Fault },
				5*time.Second,
				time.Millisecond,
				"the user is told",
			)
			assert.NotEmpty(t, laptop.Sync.Status().Detail)
			mine := records.NewID()
			require.NoError(t, laptop.Items.Save(t.Context(), mine, login("Mine", "pw")), "work goes on")

			w.between.Store(nil)
			require.NoError(t, laptop.Sync.Sync(t.Context()))
			assert.Equal(t, fresh, password(t, laptop, a))
			require.Eventually(
				t,
				func() bool { _, err := desk.Items.Entry(mine); return err == nil },
				5*time.Second,
				time.Millisecond,
			)
		})
	}
}

// Two devices are each shown a history of their own. As soon as one sees
// anything of the other's, it is caught.
func TestForkedCloud(t *testing.T) {
	t.Parallel()
	if testing.Short() {
		t.Skip("long: run without -short")
	}
	w := newWorld(t)
	desk := w.create(w.device("desk"))
	laptop := w.join(w.device("laptop"), desk)
	w.inStep(desk, laptop)
	require.NoError(t, desk.Sync.Sync(t.Context()))
	require.NoError(t, laptop.Sync.Sync(t.Context()))
	require.NoError(t, desk.Sync.Sync(t.Context()))

	// The laptop's commit is swallowed: it is told yes, and nobody else hears of it.
	var commit wire.Commit
	catch := between(func(rw http.ResponseWriter, r *http.Request, next http.Handler) {
		if fromLaptop(r, laptop) && r.URL.Path == "/v1/commits" {
			_ = json.NewDecoder(r.Body).Decode(&commit)
			_, _ = rw.Write([]byte(`{}`))
			return
		}
		next.ServeHTTP(rw, r)
	})
	w.between.Store(&catch)
	id := records.NewID()
	require.NoError(t, laptop.Items.Save(t.Context(), id, login("Fork", "pw")))
	soon(t, "it is so", func() bool { return laptop.Sync.Status().Waiting == 0 })
	w.between.Store(nil)
	require.NoError(t, desk.Items.Save(t.Context(), records.NewID(), login("Desk", "pw")))
	w.inStep(desk)

	// The same number now has two heads; the laptop still holds the swallowed one.
	_, err := hex.DecodeString(commit.Parent)
	require.NoError(t, err)
	require.NoError(t, desk.Items.Save(t.Context(), records.NewID(), login("More", "pw")))
	w.inStep(desk)
	var f *ledger.Fault
	require.ErrorAs(t, laptop.Sync.Sync(t.Context()), &f)
	assert.Equal(t, ledger.Forked, f.Kind)
	assert.Equal(t, "pw", password(t, laptop, id), "what the laptop wrote is still on it")
}

func between(
	f func(http.ResponseWriter, *http.Request, http.Handler),
) func(http.ResponseWriter, *http.Request, http.Handler) {
	return f
}

func findBytes(list []wire.Record, id string) wire.Record {
	for _, r := range list {
		if r.ID == id {
			return r
		}
	}
	return wire.Record{ID: id, Rev: 1, Blob: []byte("x")}
}

func fromLaptop(r *http.Request, v *app.Vault) bool {
	sig, _, ok := wire.SignatureOf(r.Header)
	return ok && sig.Device == v.Profile().Device
}

func pullAll(t *testing.T, w *world, v *app.Vault) []byte {
	b, err := json.Marshal(changesOf(t, w, v))
	require.NoError(t, err)
	return b
}

// changesOf is everything that the cloud has of a vault.
func changesOf(t testing.TB, w *world, v *app.Vault) wire.Changes {
	credential, err := v.Sync.Credential(t.Context())
	require.NoError(t, err)
	c, err := cloudclient.Dial(w.url)
	require.NoError(t, err)
	ring, err := v.Replica.Ring()
	require.NoError(t, err)
	var since uint64
	if s, ok := ring.Fresh(0); ok {
		since = s.After
	}
	all, err := c.Changes(t.Context(), credential, since)
	require.NoError(t, err)
	return all
}
