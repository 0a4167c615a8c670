package web_test

import (
	"context"
	"crypto/rand"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/go-chi/chi/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"redlocket/app"
	"redlocket/app/records"
	"redlocket/app/store"
	"redlocket/core/secret"
	"redlocket/core/vault"
	"redlocket/web"
)

const (
	host   = "desk.localhost:7301"
	master = "kelp ferry lantern forty"
)

// client is a browser without scripts.
type client struct {
	t      testing.TB
	h      http.Handler
	cookie string
	key    string // the session's origin key
}

func (c *client) do(method, path string, form url.Values, header ...string) *http.Response {
	r := httptest.NewRequest(method, "http://"+host+path, strings.NewReader(form.Encode()))
	r.Host = host
	if form != nil {
		r.Header.Set("Content-Type", "application/x-www-form-urlencoded")
	}
	if c.cookie != "" {
		r.Header.Set("Cookie", c.cookie)
	}
	if c.key != "" {
		r.SetBasicAuth("origin-key", c.key)
	}
	for i := 0; i+1 < len(header); i += 2 {
		if header[i] == "Host" {
			r.Host = header[i+1]
		}
		r.Header.Set(header[i], header[i+1])
	}
	w := httptest.NewRecorder()
	c.h.ServeHTTP(w, r)
	for _, k := range w.Result().Cookies() {
		c.cookie = k.Name + "=" + k.Value
		assert.True(c.t, k.HttpOnly)
		assert.Equal(c.t, http.SameSiteStrictMode, k.SameSite)
	}
	return w.Result()
}

func body(t testing.TB, r *http.Response) string {
	b, err := io.ReadAll(r.Body)
	require.NoError(t, err)
	return string(b)
}

// ahead is how far the devices' clock is, in nanoseconds.
var ahead atomic.Int64

func setup(t testing.TB) (*client, *app.Device, *app.Vault) {
	f, err := store.In(t.TempDir())
	require.NoError(t, err)
	clock := func() time.Time { return time.Now().Add(time.Duration(ahead.Load())) }
	t.Cleanup(func() { ahead.Store(0) })
	d := app.New(app.Ports{Stores: f, Now: clock, Rand: rand.Reader, Platform: "test"})
	t.Cleanup(func() { assert.NoError(t, d.Close()) })
	v, err := d.Create(
		t.Context(),
		app.NewVault{
			Name:     "Maren",
			Email:    "m@cormorant.example",
			Password: secret.New(master),
			Repeat:   secret.New(master),
		},
	)
	require.NoError(t, err)
	s, err := v.Sheets.Sheet(t.Context())
	require.NoError(t, err)
	require.NoError(t, v.Sheets.Check(t.Context(), typedBack(s)))
	p, err := web.New(
		d,
		web.Config{Hosts: []string{"desk.localhost"}, Log: slog.New(slog.NewTextHandler(io.Discard, nil))},
	)
	require.NoError(t, err)
	t.Cleanup(p.Close)
	return &client{t: t, h: p}, d, v
}

func (c *client) open(v *app.Vault) {
	r := c.do("POST", "/open/"+v.Profile().ID, url.Values{"password": {master}})
	require.Equal(c.t, http.StatusOK, r.StatusCode)
	c.entered(r)
}

// entered takes the origin key from the page that brings it, as its script does.
func (c *client) entered(r *http.Response) {
	page := body(c.t, r)
	key := regexp.MustCompile(`data-key="([A-Z2-7]{26})" data-to="/(logins|sheet)"`).FindStringSubmatch(page)
	require.NotNil(c.t, key, page)
	c.key = ""
	ask := c.do("GET", "/origin-key", nil, "Sec-Fetch-Dest", "empty")
	require.Equal(c.t, http.StatusUnauthorized, ask.StatusCode)
	require.Contains(c.t, ask.Header.Get("WWW-Authenticate"), "Basic ")
	c.key = key[1]
	require.Equal(c.t, http.StatusNoContent, c.do("GET", "/origin-key", nil, "Sec-Fetch-Dest", "empty").StatusCode)
}

// inFront reports whether a route is one in front of a vault.
func inFront(route string) bool {
	return slices.ContainsFunc([]string{
		"/static/", "/bridge/", "/open/", "/forgot/", "/arrive", "/extension/", "/front", "/new", "/join", "/recover",
		"/help", "/strength", "/words",
		"/lock", "/origin-key",
	}, func(p string) bool { return strings.HasPrefix(route, p) }) || route == "/"
}

// The cookie alone shows nothing of an open vault: it reaches whoever listens at another port.
func TestTheCookieAloneOpensNothing(t *testing.T) {
	c, _, v := setup(t)
	c.open(v)
	require.Equal(t, http.StatusOK, c.do("GET", "/logins", nil).StatusCode)
	for _, key := range []string{"", "wrong", strings.ToLower(c.key)} {
		thief := &client{t: t, h: c.h, cookie: c.cookie, key: key}
		routes := 0
		require.NoError(t, chi.Walk(c.h.(*web.Server).Handler.(chi.Routes), func(
			method, route string, _ http.Handler, _ ...func(http.Handler) http.Handler,
		) error {
			if inFront(route) {
				return nil
			}
			routes++
			r := thief.do(method, strings.NewReplacer("{", "", "}", "").Replace(route), nil)
			assert.Equal(t, http.StatusSeeOther, r.StatusCode, route)
			assert.Equal(t, "/open/"+v.Profile().ID, r.Header.Get("Location"), route)
			return nil
		}))
		assert.Greater(t, routes, 60)
		r := thief.do("POST", "/again", url.Values{"password": {master}})
		assert.Equal(t, http.StatusSeeOther, r.StatusCode, "nor is the session made fresh")
		if key != "" {
			assert.Equal(t, http.StatusForbidden, thief.do("GET", "/origin-key", nil).StatusCode)
		}
	}
	thief := &client{t: t, h: c.h, key: c.key}
	assert.Equal(t, http.StatusSeeOther, thief.do("GET", "/logins", nil).StatusCode, "nor the key without the cookie")
	assert.Equal(t, http.StatusForbidden, thief.do("GET", "/origin-key", nil).StatusCode)
	thief.cookie, thief.key = c.cookie, ""
	r := thief.do("GET", "/origin-key", nil, "Sec-Fetch-Dest", "document")
	assert.Equal(t, http.StatusForbidden, r.StatusCode, "nobody is asked for it in a page")
	before := c.key
	c.open(v)
	assert.NotEqual(t, before, c.key)
	old := &client{t: t, h: c.h, cookie: c.cookie, key: before}
	assert.Equal(t, http.StatusSeeOther, old.do("GET", "/logins", nil).StatusCode)
}

func TestFences(t *testing.T) {
	c, _, v := setup(t)
	r := c.do("GET", "/front", nil)
	csp := r.Header.Get("Content-Security-Policy")
	for _, part := range []string{"default-src 'none'", "script-src 'self'", "style-src 'self'",
		"frame-ancestors 'none'", "base-uri 'none'", "form-action 'self'"} {
		assert.Contains(t, csp, part)
	}
	assert.NotContains(t, csp, "unsafe")
	assert.Contains(t, r.Header.Get("Permissions-Policy"), "camera=()", "only people's codes are read by camera")
	c.open(v)
	for page, camera := range map[string]string{"/household": "camera=(self),", "/logins": "camera=(),"} {
		assert.Contains(t, c.do("GET", page, nil).Header.Get("Permissions-Policy"), camera, page)
	}
	assert.Equal(t, "no-store", r.Header.Get("Cache-Control"))
	assert.Equal(t, "no-referrer", r.Header.Get("Referrer-Policy"))

	for _, h := range []string{"trickster.example", "desk.localhost.trickster.example", "192.168.1.5:7301", ""} {
		assert.Equal(t, http.StatusMisdirectedRequest, c.do("GET", "/front", nil, "Host", h).StatusCode, h)
		assert.Equal(t, http.StatusMisdirectedRequest, c.do("POST", "/lock", url.Values{}, "Host", h).StatusCode, h)
	}
	r = c.do("GET", "/logins?q=x", nil, "Host", "localhost:7301")
	assert.Equal(t, "http://desk.localhost:7301/logins?q=x", r.Header.Get("Location"))
	assert.Equal(
		t,
		http.StatusMisdirectedRequest,
		c.do("POST", "/lock", url.Values{}, "Host", "localhost:7301").StatusCode,
	)

	c.open(v)
	for _, from := range [][]string{{"Sec-Fetch-Site", "cross-site"}, {"Sec-Fetch-Site", "same-site"}, {"Origin",
		"http://trickster.localhost:7310"}} {
		assert.Equal(t, http.StatusForbidden, c.do("POST", "/lock", url.Values{}, from...).StatusCode, from[1])
	}
	assert.False(t, v.Locked())
	assert.Equal(
		t,
		http.StatusSeeOther,
		c.do("POST", "/lock", url.Values{}, "Sec-Fetch-Site", "same-origin").StatusCode,
	)
	assert.True(t, v.Locked())
}

var inline = regexp.MustCompile(`(?i)<script>|<style|\sstyle=|\son[a-z]+=`)

func TestNoInlineScriptOrStyle(t *testing.T) {
	c, _, v := setup(t)
	id := records.NewID()
	require.NoError(
		t,
		v.Items.Save(
			t.Context(),
			id,
			vault.Draft{
				Title:     "<script>alert(1)</script>",
				Username:  "\" onload=\"x",
				Password:  secret.New("p"),
				Notes:     "<style>",
				Addresses: []vault.Address{{URL: "https://a.example/"}},
			}.Changes(),
		),
	)
	names := strings.NewReplacer("{id}", id, "{profile}", v.Profile().ID, "{file}", "redlocket-chromium.zip", "{n}", "0")
	pages := c.h.(*web.Server).Pages()
	require.Greater(t, len(pages), 30)
	for i, p := range append(pages, pages...) { // each in front of the vault, and in it
		if strings.HasPrefix(p, "/static/") || p == "/events" {
			continue
		}
		if i == len(pages) {
			c.open(v)
		}
		p = names.Replace(p)
		r := c.do("GET", p, nil)
		page := body(t, r)
		assert.NotContains(t, page, "<script>alert", p)
		if strings.HasPrefix(r.Header.Get("Content-Type"), "text/html") {
			assert.Empty(t, inline.FindAllString(strings.ReplaceAll(page, `&#34; onload=`, ""), -1), p)
		}
	}
	for _, p := range []string{"/items/" + id + "/vouch?address=https://b.example/", "/items/new?kind=card", "/nowhere"} {
		page := body(t, c.do("GET", p, nil))
		assert.Empty(t, inline.FindAllString(strings.ReplaceAll(page, `&#34; onload=`, ""), -1), p)
		assert.Contains(t, page, "<!doctype html>", p)
	}
}

func TestNothingWithoutTheMasterPassword(t *testing.T) {
	c, d, v := setup(t)
	id := records.NewID()
	require.NoError(
		t,
		v.Items.Save(t.Context(), id, vault.Draft{Title: "Lanternfish", Password: secret.New("cuttle")}.Changes()),
	)
	closed := []struct{ method, path string }{
		{"GET", "/logins"},
		{"GET", "/items/" + id},
		{"POST", "/items/" + id + "/show"},
		{"POST", "/items/" + id + "/copy"},
		{"POST", "/items/" + id},
		{"POST", "/generate"},
		{"POST", "/drawer"},
		{"POST", "/drawer/empty"},
		{"POST", "/sites/rule"},
		{"POST", "/items/" + id + "/staged"},
		{"GET", "/items/" + id + "/change"},
		{"GET", "/items/" + id + "/vouch"},
		{"POST", "/items/" + id + "/vouch"},
		{"POST", "/items/" + id + "/apps"},
		{"GET", "/sheet"},
		{"GET", "/devices"},
		{"GET", "/events"},
		{"POST", "/devices/introduce"},
	}
	check := func(why string) {
		for _, p := range closed {
			r := c.do(p.method, p.path, url.Values{})
			assert.Equal(t, http.StatusSeeOther, r.StatusCode, why+p.path)
			assert.NotContains(t, body(t, r), "cuttle")
		}
	}
	check("before: ")
	c.open(v)
	assert.Equal(t, "cuttle", body(t, c.do("POST", "/items/"+id+"/copy", url.Values{})))
	v.Lock()
	check("after locking: ")
	again, err := d.Unlock(context.Background(), v.Profile().ID, secret.New(master))
	require.NoError(t, err)
	check("opened by somebody else: ")
	assert.False(t, again.Locked())
	r := c.do("POST", "/logins", url.Values{}, "HX-Request", "true")
	assert.Equal(t, http.StatusMethodNotAllowed, r.StatusCode)
}

func TestFormsKeepWhatTheyDidNotChange(t *testing.T) {
	c, _, v := setup(t)
	c.open(v)
	id := records.NewID()
	form := url.Values{
		"new":        {"1"},
		"title":      {""},
		"address":    {"https://ferrylink.example/in?x"},
		"kind":       {"login"},
		"v_username": {" mtolliver "},
		"v_password": {"one"},
		"tags":       {"a, b,a"},
		"match":      {"host"},
	}
	r := c.do("POST", "/items/"+id, form)
	require.Equal(t, "/items/"+id, r.Header.Get("Location"))
	e, err := v.Items.Entry(id)
	require.NoError(t, err)
	it := vault.View(e)
	assert.Equal(t, "Ferrylink", it.Title)
	assert.Equal(t, []vault.Address{{URL: "https://ferrylink.example/in", Match: vault.MatchHost}}, it.Addresses)
	assert.Equal(t, []string{"a", "b"}, it.Tags)

	page := body(t, c.do("GET", "/items/"+id+"/edit", nil))
	assert.NotContains(t, page, `value="one"`, "a form doesn't carry the password")
	edit := url.Values{
		"kind":       {"login"},
		"title":      {"Ferrylink"},
		"address":    {"https://ferrylink.example/in"},
		"match":      {"host"},
		"v_username": {"mtolliver"},
		"tags":       {"a, b"},
		"notes":      {"mine"},
	}
	for _, m := range regexp.MustCompile(`name="(was_\w+)" value="(\w+)"`).FindAllStringSubmatch(page, -1) {
		edit.Set(m[1], m[2])
	}
	require.NoError(
		t,
		v.Items.Save(
			t.Context(),
			id,
			vault.Changes{vault.FieldTitle: "Ferrylink tickets", vault.FieldPassword: secret.New("two")},
		),
	)
	require.Equal(t, http.StatusSeeOther, c.do("POST", "/items/"+id, edit).StatusCode)
	e, err = v.Items.Entry(id)
	require.NoError(t, err)
	assert.Equal(t, "Ferrylink tickets", e.Text(vault.FieldTitle), "changed elsewhere, not by this form")
	assert.Equal(t, "two", e.Text(vault.FieldPassword))
	assert.Equal(t, "mine", e.Text(vault.FieldNotes))

	bad := url.Values{
		"new":     {"1"},
		"kind":    {"login"},
		"title":   {"x"},
		"address": {"javascript:alert(1)"},
		"notes":   {"typed with care"},
	}
	r = c.do("POST", "/items/"+records.NewID(), bad)
	assert.Equal(t, http.StatusUnprocessableEntity, r.StatusCode)
	page = body(t, r)
	assert.Contains(t, page, "must begin with https://")
	assert.Contains(t, page, "typed with care")
	assert.Equal(t, http.StatusNotFound, c.do("GET", "/items/"+records.NewID(), nil).StatusCode)
	assert.Equal(
		t,
		http.StatusUnprocessableEntity,
		c.do("POST", "/items/nonsense", url.Values{"kind": {"login"}, "title": {"x"}}).StatusCode,
	)
	huge := url.Values{"title": {"x"}, "notes": {strings.Repeat("a", 3<<20)}}
	assert.Equal(t, http.StatusRequestEntityTooLarge, c.do("POST", "/items/"+id, huge).StatusCode)
}

func TestManyLoginsComeInParts(t *testing.T) {
	c, _, v := setup(t)
	var list []vault.Draft
	for i := range 1000 {
		list = append(
			list,
			vault.Draft{
				Title:    "Shop " + strings.Repeat("x", i%7) + time.Duration(i).String(),
				Password: secret.New("p"),
			},
		)
	}
	require.NoError(t, v.Items.SaveAll(t.Context(), list))
	c.open(v)
	lines := regexp.MustCompile(`class="line"`)
	page := body(t, c.do("GET", "/logins", nil))
	n := len(lines.FindAllString(page, -1))
	assert.Less(t, n, 50, "the first page is short")
	rest := regexp.MustCompile(`class="rest" data-from="(\d+)" data-height="([^"]*)" data-parts="([^"]*)"`).
		FindStringSubmatch(page)
	require.Len(t, rest, 4)
	from, err := strconv.Atoi(rest[1])
	require.NoError(t, err)
	assert.Equal(t, n, from)
	var sum, under, heads int
	for part := range strings.SplitSeq(rest[3], ";") {
		of := strings.Fields(part)
		sites, err := strconv.Atoi(of[0])
		require.NoError(t, err)
		accounts, err := strconv.Atoi(of[1])
		require.NoError(t, err)
		sum, under, heads = sum+sites, under+accounts, heads+len(of)-2
		rows := body(t, c.do("GET", fmt.Sprintf("/rows?in=logins&from=%d&to=%d", from, from+sites), nil))
		got := len(lines.FindAllString(rows, -1))
		assert.Equal(t, sites, got, "as many lines as its height was made for")
		n, from = n+got, from+sites
	}
	assert.Equal(t, 1000, n)
	assert.Equal(t, fmt.Sprint(sum, under, heads), rest[2], "the whole is as high as its parts")
	assert.Len(
		t,
		strings.Fields(body(t, c.do("GET", "/ids?q=xxxxxx", nil))),
		strings.Count(
			body(t, c.do("GET", "/rows?q=xxxxxx&from=0&to=20", nil)),
			`class="line"`,
		)+countBeyond(
			t,
			c,
			lines,
		),
	)
	assert.Equal(t, http.StatusBadRequest, c.do("GET", "/rows?from=5&to=900", nil).StatusCode)
}

// countBeyond counts the lines of a search beyond its first part.
func countBeyond(t *testing.T, c *client, lines *regexp.Regexp) (n int) {
	for from := 20; from < 1000; from += 20 {
		n += len(
			lines.FindAllString(
				body(t, c.do("GET", "/rows?q=xxxxxx&from="+strconv.Itoa(from)+"&to="+strconv.Itoa(from+20), nil)),
				-1,
			),
		)
	}
	return n
}

func FuzzPages(f *testing.F) {
	f.Add("/logins", "title=x&address=a.example")
	f.Add("/generate", "length=8&lower=1")
	folder, err := store.In(f.TempDir())
	if err != nil {
		f.Fatal(err)
	}
	d := app.New(app.Ports{Stores: folder, Now: time.Now, Rand: rand.Reader, Platform: "test"})
	v, err := d.Create(
		f.Context(),
		app.NewVault{Name: "M", Email: "m@cormorant.example", Password: secret.New(master), Repeat: secret.New(master)},
	)
	if err != nil {
		f.Fatal(err)
	}
	s, _ := v.Sheets.Sheet(f.Context())
	_ = v.Sheets.Check(f.Context(), typedBack(s))
	p, err := web.New(
		d,
		web.Config{Hosts: []string{"desk.localhost"}, Log: slog.New(slog.NewTextHandler(io.Discard, nil))},
	)
	if err != nil {
		f.Fatal(err)
	}
	c := &client{h: p}
	r := httptest.NewRequest(
		"POST",
		"http://"+host+"/open/"+v.Profile().ID,
		strings.NewReader("password="+url.QueryEscape(master)),
	)
	r.Header.Set("Content-Type", "application/x-www-form-urlencoded")
	w := httptest.NewRecorder()
	p.ServeHTTP(w, r)
	c.cookie = w.Result().Cookies()[0].Name + "=" + w.Result().Cookies()[0].Value
	c.key = regexp.MustCompile(`data-key="(.+?)"`).FindStringSubmatch(w.Body.String())[1]
	id := records.NewID()
	f.Fuzz(func(t *testing.T, path, form string) {
		if path == "/logins" {
			path = "/items/" + id
		}
		if path != "/generate" && path != "/items/"+id && path != "/strength" && path != "/never/again" {
			return
		}
		r := httptest.NewRequest("POST", "http://"+host+path, strings.NewReader(form))
		r.Header.Set("Content-Type", "application/x-www-form-urlencoded")
		r.Header.Set("Cookie", c.cookie)
		w := httptest.NewRecorder()
		p.ServeHTTP(w, r)
		if w.Code >= 500 {
			t.Fatal(w.Code, w.Body.String())
		}
	})
}

// typedBack is what is typed back from a sheet.
func typedBack(s app.Sheet) app.TypedSheet {
	return app.TypedSheet{CarriedGroup: 1, Carried: s.Carried[0], RecoveryGroup: 1, Recovery: s.Recovery[0]}
}

// One vault's damaged file keeps nobody else out, and says what can be done.
func TestADamagedFile(t *testing.T) {
	dir := t.TempDir()
	f, err := store.In(dir)
	require.NoError(t, err)
	d := app.New(app.Ports{Stores: f, Now: time.Now, Rand: rand.Reader, Platform: "test"})
	t.Cleanup(func() { assert.NoError(t, d.Close()) })
	p, err := web.New(d, web.Config{
		Hosts: []string{"desk.localhost"}, Log: slog.New(slog.NewTextHandler(io.Discard, nil)),
	})
	require.NoError(t, err)
	t.Cleanup(p.Close)
	c := &client{t: t, h: p}
	const id = "0197f3a2-0000-7000-8000-000000000001"
	require.NoError(t, os.WriteFile(filepath.Join(dir, id+".vault"), []byte(strings.Repeat("no vault ", 1000)), 0o600))
	r := c.do("GET", "/front", nil)
	assert.Equal(t, "/open/"+id, r.Header.Get("Location"))
	page := body(t, c.do("GET", "/open/"+id, nil))
	assert.Contains(t, page, "file is damaged")
	assert.Contains(t, page, "bring the vault here again")
	assert.NotContains(t, page, dir)

	v, err := d.Create(t.Context(), app.NewVault{
		Name: "Maren", Email: "m@cormorant.example", Password: secret.New(master), Repeat: secret.New(master),
	})
	require.NoError(t, err)
	page = body(t, c.do("GET", "/front", nil))
	assert.Contains(t, page, "A vault whose file is damaged")
	assert.Contains(t, page, "Maren")
	c.open(v)
	r = c.do("POST", "/open/"+id, url.Values{"password": {master}})
	assert.Equal(t, http.StatusInternalServerError, r.StatusCode)
	assert.Contains(t, body(t, r), "damaged")
}

// A property that nobody sets leaves text in the colour of its ground.
func TestEveryPropertyOfTheStylesIsSet(t *testing.T) {
	set, used := map[string]bool{}, map[string]bool{}
	for _, page := range web.PageStyles() {
		for _, m := range regexp.MustCompile(`(--[a-z0-9-]+)\s*:`).FindAllStringSubmatch(page, -1) {
			set[m[1]] = true
		}
		for _, m := range regexp.MustCompile(`var\((--[a-z0-9-]+)\s*\)`).FindAllStringSubmatch(page, -1) {
			used[m[1]] = true
		}
	}
	require.Greater(t, len(used), 20)
	for name := range used {
		assert.True(t, set[name] || strings.HasPrefix(name, "--bs-"), name)
	}
}
