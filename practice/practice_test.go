package practice

import (
	"io"
	"net/http"
	"net/http/cookiejar"
	"net/http/httptest"
	"net/url"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/pquerna/otp/totp"
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

// post sends a form, its values in pairs, and returns the status, the path it led to and the page.
func (v *visitor) post(path string, pairs ...string) (int, string, string) {
	form := url.Values{
		"company": {"TS-1"},
		"first":   {"Wren"},
		"last":    {"Tolliver"},
		"town":    {"Saltmarsh Quay"},
		"day":     {"9"},
		"month":   {"05"},
		"year":    {"1999"},
	}
	for i := 0; i < len(pairs); i += 2 {
		form.Add(pairs[i], pairs[i+1])
	}
	resp, err := v.http.PostForm(v.srv.URL+path, form)
	return v.answer(resp, err)
}

func (v *visitor) get(path string) (int, string, string) {
	resp, err := v.http.Get(v.srv.URL + path)
	return v.answer(resp, err)
}

func (v *visitor) answer(resp *http.Response, err error) (int, string, string) {
	require.NoError(v.t, err)
	defer resp.Body.Close()
	b, err := io.ReadAll(resp.Body)
	require.NoError(v.t, err)
	return resp.StatusCode, resp.Request.URL.Path, string(b)
}

// good is a password that a site takes.
func good(s Site, tail string) string {
	if s.Plain {
		return "winkle7" + tail
	}
	return "Sea-Glass.27" + tail
}

// enter signs in, with a one-time code where the site asks for one.
func (v *visitor) enter(s Site, user, password string) string {
	_, at, _ := v.post("/sign-in", "user", user, "password", password)
	if at == "/code" {
		code, _, _ := v.post("/code", "code", "000000")
		assert.Equal(v.t, http.StatusUnauthorized, code, s.Name)
		now, err := totp.GenerateCode(CodeKey, time.Now())
		require.NoError(v.t, err)
		_, at, _ = v.post("/code", "digit", now[:1], "digit", now[1:2], "digit", now[2:3], "digit", now[3:])
	}
	return at
}

func TestEverySiteReallyChecks(t *testing.T) {
	town, err := New([]Resident{{"lanternfish", "Maren@x.example", "cuttle-bone"}})
	require.NoError(t, err)
	require.GreaterOrEqual(t, len(Sites), 20)
	for _, s := range Sites {
		v := visit(t, town, s.Name)
		user, first, second, third := "wren@x.example", good(s, "a1"), good(s, "b2"), good(s, "c3")
		for _, bad := range [][3]string{{"", first, first}, {user, "p1", "p1"}, {user, first, first + "x"}} {
			code, _, page := v.post("/sign-up", "user", bad[0], "password", bad[1], "repeat", bad[2])
			assert.Equal(t, http.StatusUnprocessableEntity, code, "%s %v", s.Name, bad)
			assert.Contains(t, page, `role="alert"`, s.Name)
		}
		code, at, _ := v.post("/sign-up", "user", user, "password", first, "repeat", first)
		assert.Equal(t, http.StatusOK, code)
		assert.Equal(t, "/welcome", at, s.Name)
		code, _, _ = v.post("/sign-up", "user", strings.ToUpper(user), "password", first, "repeat", first)
		assert.Equal(t, http.StatusUnprocessableEntity, code, "taken")

		code, _, _ = v.post("/change", "current", first+"x", "password", second, "repeat", second)
		assert.Equal(t, http.StatusUnprocessableEntity, code, s.Name)
		code, _, page := v.post("/change", "current", first, "password", second, "repeat", second)
		assert.Equal(t, http.StatusOK, code, s.Name)
		assert.Contains(t, page, `role="status"`)
		_, at, _ = v.post("/sign-out")
		assert.Equal(t, "/", at)

		refused := http.StatusUnauthorized
		if s.Silent {
			refused = http.StatusOK
		}
		code, at, _ = v.post("/sign-in", "user", user, "password", first)
		assert.Equal(t, refused, code, s.Name)
		assert.NotEqual(t, "/welcome", at)
		code, _, _ = v.post("/sign-in", "user", "nobody")
		assert.Equal(t, refused, code)
		assert.Equal(t, "/welcome", v.enter(s, user, second), s.Name)

		_, _, page = v.post("/forgot", "user", user)
		letter := regexp.MustCompile(`/reset\?letter=(\w+)`).FindStringSubmatch(page)
		require.NotNil(t, letter, s.Name)
		code, _, _ = v.post("/reset", "letter", letter[1], "password", third, "repeat", third)
		assert.Equal(t, http.StatusOK, code)
		assert.Equal(t, "/welcome", v.enter(s, user, third), s.Name)
		code, _, _ = v.get("/reset?letter=another")
		assert.Equal(t, http.StatusNotFound, code)
		for _, path := range []string{"/", "/sign-in", "/sign-up", "/change", "/code", "/forgot"} {
			code, _, page := v.get(path)
			assert.Equal(t, http.StatusOK, code, s.Name+path)
			assert.Contains(t, page, "</html>", s.Name+path)
		}
		code, _, _ = v.get("/pay")
		assert.Equal(t, s.Sells != "", code == http.StatusOK, s.Name)
		code, _, _ = v.post("/nowhere")
		assert.Equal(t, http.StatusNotFound, code)
		code, _, _ = v.get("/.well-known/change-password")
		assert.Equal(t, s.Knows, code == http.StatusOK)
	}
	v := visit(t, town, "lanternfish")
	_, at, _ := v.post("/sign-in", "user", "maren@x.example", "password", "cuttle-bone")
	assert.Equal(t, "/welcome", at, "a resident, whatever the case")
	code, _, _ := visit(t, town, "gullwing").post("/sign-in", "user", "maren@x.example", "password", "cuttle-bone")
	assert.Equal(t, http.StatusUnauthorized, code, "sites don't know each other's accounts")
}

func TestAPaymentCompanysFrames(t *testing.T) {
	town, err := New([]Resident{{"periwinkle", "m@x.example", "p"}})
	require.NoError(t, err)
	shop, company := visit(t, town, "periwinkle"), visit(t, town, "bowsprit")
	shop.post("/sign-in", "user", "m@x.example", "password", "p")
	for name, want := range map[string]int{"118": http.StatusOK, "": http.StatusUnprocessableEntity} {
		_, _, page := shop.get("/pay")
		m := regexp.MustCompile(`name="basket" value="([^"]+)"`).FindStringSubmatch(page)
		require.Len(t, m, 2)
		code, _, field := company.get("/field?name=safety&lang=nl&basket=" + m[1])
		assert.Equal(t, http.StatusOK, code)
		assert.Contains(t, field, `autocomplete="cc-csc"`)
		for f, v := range map[string]string{"number": "4012888888881881", "expiry": "09/37", "safety": name} {
			code, _, _ = company.post("/field", "basket", m[1], "name", f, "value", v)
			assert.Equal(t, http.StatusNoContent, code)
		}
		code, _, _ = shop.post("/pay", "holder", "M", "basket", m[1])
		assert.Equal(t, want, code)
		code, _, _ = shop.post("/pay", "holder", "M", "basket", m[1])
		assert.Equal(t, http.StatusUnprocessableEntity, code, "a basket is paid for once")
	}
	code, _, _ := company.get("/field?name=number&basket=nonsense")
	assert.Equal(t, http.StatusNotFound, code)
}

func TestCheckoutsReallyCheck(t *testing.T) {
	town, err := New(
		[]Resident{
			{"pantryandpier", "m@x.example", "p"},
			{"kelpandcrown", "m", "p"},
			{"chandlery", "m@x.example", "p"},
		},
	)
	require.NoError(t, err)
	pays := map[string][]string{
		"pantryandpier": {
			"number",
			"4012888888881881",
			"expiry",
			"09/37",
			"safety",
			"118",
			"holder",
			"M",
			"street",
			"7 Ropewalk",
			"post",
			"SQ1",
			"country",
			"GB",
		},
		"kelpandcrown": {
			"number",
			"4012",
			"number",
			"8888",
			"number",
			"8888",
			"number",
			"1881",
			"month",
			"09",
			"year",
			"2037",
			"safety",
			"118",
			"holder",
			"M",
		},
		"chandlery": {"number", "4012888888881881", "month", "09", "year", "37", "safety", "118", "holder", "M"},
	}
	for name, pairs := range pays {
		v := visit(t, town, name)
		user := "m@x.example"
		if name == "kelpandcrown" {
			user = "m"
		}
		v.post("/sign-in", "user", user, "password", "p")
		pay := func(pairs []string) int {
			form := url.Values{}
			for i := 0; i < len(pairs); i += 2 {
				form.Add(pairs[i], pairs[i+1])
			}
			resp, err := v.http.PostForm(v.srv.URL+"/pay", form)
			require.NoError(t, err)
			defer resp.Body.Close()
			return resp.StatusCode
		}
		assert.Equal(t, http.StatusOK, pay(pairs), name)
		for i := 1; i < len(pairs); i += 2 {
			bad := slices.Clone(pairs)
			bad[i] = ""
			assert.Equal(t, http.StatusUnprocessableEntity, pay(bad), "%s without %s", name, bad[i-1])
		}
		bad := slices.Clone(pairs)
		bad[1] = "4013888888881881"[:len(bad[1])]
		assert.Equal(t, http.StatusUnprocessableEntity, pay(bad), name)
	}
}

// Five wrong passwords lock an account, also for the right one; four don't.
func TestASiteThatLocks(t *testing.T) {
	town, err := New([]Resident{{"bollard", "maren@x.example", "right-One"}, {"bollard", "wren@x.example", "right-One"}})
	require.NoError(t, err)
	for who, wrong := range map[string]int{"wren@x.example": mostWrong - 1, "maren@x.example": mostWrong} {
		v := visit(t, town, "bollard")
		for range wrong {
			code, _, _ := v.post("/sign-in", "user", who, "password", "wrong")
			assert.Equal(t, http.StatusUnauthorized, code)
		}
		code, _, page := v.post("/sign-in", "user", who, "password", "right-One")
		if wrong == mostWrong {
			assert.Equal(t, http.StatusUnauthorized, code)
			assert.Contains(t, page, "locked after five")
		} else {
			assert.Equal(t, http.StatusOK, code)
		}
	}
}
