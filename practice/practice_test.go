package practice

import (
	"net/http"
	"net/http/cookiejar"
	"net/http/httptest"
	"net/url"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// visitor is a browser at one site of the town.
type visitor struct {
	t    *testing.T
	srv  *httptest.Server
	http *http.Client
	host string
}

func visit(t *testing.T, town *Town, site string) *visitor {
	srv := httptest.NewServer(town)
	t.Cleanup(srv.Close)
	jar, err := cookiejar.New(nil)
	require.NoError(t, err)
	v := &visitor{t: t, srv: srv, host: site + ".localhost"}
	v.http = &http.Client{Jar: jar, Transport: asHost{v.host}}
	return v
}

type asHost struct{ host string }

func (h asHost) RoundTrip(r *http.Request) (*http.Response, error) {
	r = r.Clone(r.Context())
	r.Host = h.host + ":" + r.URL.Port()
	return http.DefaultTransport.RoundTrip(r)
}

func (v *visitor) post(path, user, password, repeat string) (int, string) {
	resp, err := v.http.PostForm(v.srv.URL+path, url.Values{"user": {user}, "password": {password}, "repeat": {repeat}})
	require.NoError(v.t, err)
	defer resp.Body.Close()
	return resp.StatusCode, resp.Request.URL.Path
}

func TestEverySiteReallyChecks(t *testing.T) {
	town, err := New([]Resident{{"lanternfish", "Maren@x.example", "cuttle-bone"}})
	require.NoError(t, err)
	for _, s := range Sites {
		v := visit(t, town, s.Name)
		user := "wren"
		if s.Mail {
			user = "wren@x.example"
		}
		long := strings.Repeat("p", s.Least)
		for _, bad := range [][3]string{{"", long, long}, {user, long[1:], long[1:]}, {user, long, long + "x"}} {
			code, _ := v.post("/sign-up", bad[0], bad[1], bad[2])
			assert.Equal(t, http.StatusUnprocessableEntity, code, s.Name)
		}
		code, at := v.post("/sign-up", user, long, long)
		assert.Equal(t, http.StatusOK, code)
		assert.Equal(t, "/welcome", at, s.Name)
		code, _ = v.post("/sign-up", strings.ToUpper(user), long, long)
		assert.Equal(t, http.StatusUnprocessableEntity, code, "taken")
		_, at = v.post("/sign-out", "", "", "")
		assert.Equal(t, "/", at)

		code, _ = v.post("/sign-in", user, long+"x", "")
		assert.Equal(t, http.StatusUnauthorized, code)
		code, _ = v.post("/sign-in", "nobody", "", "")
		assert.Equal(t, http.StatusUnauthorized, code)
		_, at = v.post("/sign-in", user, long, "")
		assert.Equal(t, "/welcome", at)
		code, _ = v.post("/nowhere", "", "", "")
		assert.Equal(t, http.StatusNotFound, code)
	}
	v := visit(t, town, "lanternfish")
	_, at := v.post("/sign-in", "maren@x.example", "cuttle-bone", "")
	assert.Equal(t, "/welcome", at, "a resident, whatever the case")
	code, _ := visit(t, town, "gullwing").post("/sign-in", "maren@x.example", "cuttle-bone", "")
	assert.Equal(t, http.StatusUnauthorized, code, "sites don't know each other's accounts")
}
