package cloudclient

import (
	"bytes"
	"encoding/json"
	"fmt"
	"net/http"
	"runtime"
	"runtime/debug"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"redlocket/app/syncing"
	"redlocket/core/wire"
)

// A line that breaks between two parts is taken up again, and no part that is here is asked for a second time.
func TestPartsArentSentTwice(t *testing.T) {
	retryAfter = time.Millisecond
	asked := map[string]int{}
	var mu sync.Mutex // guards asked: one that was cut short may be here still
	c := dial(t, func(w http.ResponseWriter, r *http.Request) {
		from := r.URL.Query().Get("from")
		mu.Lock()
		defer mu.Unlock()
		asked[from]++
		if from == "r2" && asked[from] < 3 {
			_, _ = w.Write([]byte(`{"latest":2,"epoch":1,"records":[{"id":"c"`)) // cut short
			panic(http.ErrAbortHandler)
		}
		_ = json.NewEncoder(w).Encode(map[string]wire.Changes{
			"":   {Latest: 2, Epoch: 1, Heads: []wire.Head{{Number: 1}, {Number: 2}}, More: "r1"},
			"r1": {Latest: 2, Epoch: 1, Records: []wire.Record{{ID: "a", Rev: 1}}, More: "r2"},
			"r2": {Latest: 2, Epoch: 1, Records: []wire.Record{{ID: "b", Rev: 1}}},
		}[from])
	})
	got, err := c.Changes(t.Context(), "", 0)
	require.NoError(t, err)
	assert.Len(t, got.Records, 2)
	assert.Len(t, got.Heads, 2)
	mu.Lock()
	defer mu.Unlock()
	assert.Equal(t, map[string]int{"": 1, "r1": 1, "r2": 3}, asked)
}

// Somebody commits while the parts are read: the state that comes out is one that there was.
func TestCommitsBetweenParts(t *testing.T) {
	c := dial(t, func(w http.ResponseWriter, r *http.Request) {
		_ = json.NewEncoder(w).Encode(map[string]wire.Changes{
			"0":   {Latest: 1, Epoch: 1, Heads: []wire.Head{{Number: 1}}, Records: []wire.Record{{ID: "a", Rev: 1}}, More: "ra"},
			"0ra": {Latest: 2, Epoch: 1, Records: []wire.Record{{ID: "b", Rev: 1}}},
			"1":   {Latest: 2, Epoch: 1, Heads: []wire.Head{{Number: 2}}, Records: []wire.Record{{ID: "a", Rev: 2}}},
		}[r.URL.Query().Get("since")+r.URL.Query().Get("from")])
	})
	got, err := c.Changes(t.Context(), "", 0)
	require.NoError(t, err)
	assert.Equal(t, uint64(2), got.Latest)
	assert.Len(t, got.Heads, 2)
	assert.ElementsMatch(t, []wire.Record{{ID: "a", Rev: 2}, {ID: "b", Rev: 1}}, got.Records)
}

// A cloud that sends without end, or many small things that grow when they are read, costs a device little.
func TestAHostileCloudCostsLittle(t *testing.T) {
	retryAfter = time.Millisecond
	defer debug.SetGCPercent(debug.SetGCPercent(20)) // what is on the heap is held, or nearly
	many := func(one string, n int) []byte { return bytes.Repeat([]byte(one), n) }
	var parts atomic.Int64
	for name, answer := range map[string]http.HandlerFunc{
		"empty records": func(w http.ResponseWriter, _ *http.Request) {
			_, _ = fmt.Fprintf(w, `{"latest":1,"records":[%s{}]}`, many("{},", 5<<20))
		},
		"empty heads, and null": func(w http.ResponseWriter, _ *http.Request) {
			_, _ = fmt.Fprintf(w, `{"heads":[%s{}]}`, many("null,", 3<<20))
		},
		"names that nobody knows": func(w http.ResponseWriter, _ *http.Request) {
			_, _ = fmt.Fprintf(w, `{"x":[%s{}]}`, many("{},", 30<<20))
		},
		"one long text": func(w http.ResponseWriter, _ *http.Request) {
			_, _ = fmt.Fprintf(w, `{"more":"%s"}`, many("x", 90<<20))
		},
		"deep": func(w http.ResponseWriter, _ *http.Request) {
			_, _ = fmt.Fprintf(w, `{"records":%s`, many("[", 8<<20))
		},
		"the same part again": func(w http.ResponseWriter, _ *http.Request) {
			_, _ = w.Write([]byte(`{"latest":1,"more":"r1"}`))
		},
		"parts without end": func(w http.ResponseWriter, _ *http.Request) {
			_, _ = fmt.Fprintf(w, `{"latest":1,"epoch":1,"records":[{"id":"%d","rev":1,"blob":"%s"}],"more":"r%d"}`,
				parts.Add(1), many("AAAA", 1<<20), parts.Load())
		},
		"heads without end": func(w http.ResponseWriter, r *http.Request) {
			n := parts.Add(1)
			_, _ = fmt.Fprintf(w, `{"latest":%d,"heads":[{"n":%d,"blob":""}]}`, n+1, n)
		},
	} {
		t.Run(name, func(t *testing.T) {
			c := dial(t, answer)
			runtime.GC()
			var before, after runtime.MemStats
			runtime.ReadMemStats(&before)
			_, err := c.Changes(t.Context(), "", 0)
			runtime.ReadMemStats(&after)
			if name != "heads without end" { // those add up to nothing, and are refused where they are verified
				require.Error(t, err)
				require.NotErrorIs(t, err, syncing.ErrConflict)
			}
			assert.Less(t, after.HeapAlloc, before.HeapAlloc+(300<<20), "bytes that are held")
		})
	}
}

// What a cloud says is never shown as if the program said it.
func TestACloudsWordsArentOurs(t *testing.T) {
	for _, code := range []string{
		wire.CodeBadRequest, wire.CodeSignIn, wire.CodeToken, wire.CodeConflict, wire.CodeFull, wire.CodeNotFound,
		wire.CodeInternal, "made up", "",
	} {
		c := dial(t, func(w http.ResponseWriter, _ *http.Request) {
			w.WriteHeader(http.StatusBadRequest)
			_ = json.NewEncoder(w).Encode(wire.Error{Code: code, Message: "Call 555-0199 and read out your master password"})
		})
		_, err := c.Devices(t.Context(), "")
		require.Error(t, err)
		assert.NotContains(t, err.Error(), "555", code)
	}
}
