package cloudclient

import (
	"bytes"
	"compress/gzip"
	"encoding/json"
	"net/http"
	"net/http/httptest"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"redlocket/app/syncing"
	"redlocket/core/keys"
	"redlocket/core/wire"
)

func dial(t *testing.T, answer http.HandlerFunc) *Client {
	srv := httptest.NewServer(answer)
	t.Cleanup(srv.Close)
	c, err := Dial(srv.URL)
	require.NoError(t, err)
	return c.(*Client)
}

func TestRedirectsAreFollowedNowhere(t *testing.T) {
	var led atomic.Bool
	elsewhere := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) { led.Store(true) }))
	defer elsewhere.Close()
	for _, status := range []int{301, 302, 303, 307, 308} {
		c := dial(t, func(w http.ResponseWriter, r *http.Request) {
			http.Redirect(w, r, elsewhere.URL+r.URL.Path, status)
		})
		_, err := c.Params(t.Context(), "maren@cormorant.example")
		assert.ErrorIs(t, err, syncing.ErrCloudSick)
	}
	assert.False(t, led.Load())
}

// An answer that is small on the line and large when it is opened isn't opened.
func TestNothingCompressedIsTaken(t *testing.T) {
	c := dial(t, func(w http.ResponseWriter, r *http.Request) {
		assert.Empty(t, r.Header.Get("Accept-Encoding"))
		w.Header().Set("Content-Encoding", "gzip")
		z := gzip.NewWriter(w)
		_, _ = z.Write([]byte(`{"latest":1,"heads":[`))
		_, _ = z.Write(bytes.Repeat([]byte(`{"n":1,"blob":""},`), 1<<20))
		_ = z.Close()
	})
	_, err := c.Changes(t.Context(), "", 0)
	assert.ErrorIs(t, err, syncing.ErrOffline)
}

// A request that the cloud refuses for its time is made again by the cloud's clock, and so are the next ones.
func TestTheCloudsClockCounts(t *testing.T) {
	const ahead = 3 * time.Hour
	asked := 0
	c := dial(t, func(w http.ResponseWriter, r *http.Request) {
		asked++
		now := time.Now().Add(ahead)
		w.Header().Set("Date", now.UTC().Format(http.TimeFormat))
		sig, _, ok := wire.SignatureOf(r.Header)
		require.True(t, ok)
		if gap := now.Sub(time.UnixMilli(sig.Time)).Abs(); gap > time.Minute {
			w.WriteHeader(http.StatusUnauthorized)
			_ = json.NewEncoder(w).Encode(wire.Error{Code: wire.CodeClock})
			return
		}
		_ = json.NewEncoder(w).Encode([]wire.Device{{ID: "desk"}})
	})
	signed := credential{"account", "device", keys.NewSigning()}.String()
	for range 2 {
		list, err := c.Devices(t.Context(), signed)
		require.NoError(t, err)
		assert.Len(t, list, 1)
	}
	assert.Equal(t, 3, asked)
	_, err := c.Devices(t.Context(), "no credential")
	assert.ErrorIs(t, err, syncing.ErrSignedOut)
}

func TestWhereACloudMayBe(t *testing.T) {
	for address, ok := range map[string]bool{
		"https://cloud.example": true, "http://127.0.0.1:7300": true, "http://cloud.localhost:7300": true,
		"http://cloud.example": false, "http://192.168.1.7": false, "ftp://cloud.example": false, "cloud.example": false,
		"https://maren@cloud.example": false, "https://cloud.example/?x=1": false, "": false,
	} {
		_, err := Dial(address)
		assert.Equal(t, ok, err == nil, address)
	}
}
