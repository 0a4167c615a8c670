package siteclient

import (
	"net/http"
	"net/http/httptest"
	"net/url"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestGet(t *testing.T) {
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		assert.Empty(t, r.Header.Get("Cookie"))
		_, port, _ := strings.Cut(r.Host, ":")
		switch r.URL.Path {
		case "/here":
			http.Redirect(w, r, "http://id.gull.localhost:"+port+"/there", http.StatusSeeOther)
		case "/away":
			http.Redirect(w, r, "http://trickster.localhost:"+port+"/there", http.StatusSeeOther)
		case "/round":
			http.Redirect(w, r, "/round", http.StatusSeeOther)
		case "/long":
			_, _ = w.Write(make([]byte, maxAnswer+1))
		case "/there":
			_, _ = w.Write([]byte("yes"))
		default:
			http.NotFound(w, r)
		}
	}))
	defer srv.Close()
	u, err := url.Parse(srv.URL)
	require.NoError(t, err)
	base := "http://gull.localhost:" + u.Port()
	c := New()
	status, body, err := c.Get(t.Context(), base+"/here")
	require.NoError(t, err, "within the site, and to this computer by name")
	assert.Equal(t, 200, status)
	assert.Equal(t, "yes", string(body))
	status, _, err = c.Get(t.Context(), base+"/nowhere")
	require.NoError(t, err)
	assert.Equal(t, 404, status)
	for _, path := range []string{"/away", "/round", "/long"} {
		_, _, err = c.Get(t.Context(), base+path)
		assert.Error(t, err, path)
	}
	_, _, err = c.Get(t.Context(), "http://gull.localhost:1/")
	assert.Error(t, err)
}
