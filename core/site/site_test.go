package site

import (
	"encoding/json"
	"net/netip"
	"net/url"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"redlocket/core/vault"
)

func TestClean(t *testing.T) {
	for in, want := range map[string]string{
		"gullwing.example": "https://gullwing.example/",
		"  HTTPS://Gullwing.Example:443/Sign-In?next=/a#top ": "https://gullwing.example/Sign-In",
		"http://maren:pw@brackish.example/in":                 "http://brackish.example/in",
		"https://shop.example/a;jsessionid=9F2C/b":            "https://shop.example/a/b",
		"https://old.example/(S(lit3py55t21z5v55vlm25s55))/x": "https://old.example/x",
		"lanternfish.localhost:7310/sign-in":                  "http://lanternfish.localhost:7310/sign-in",
		"http://a.example.:80/":                               "http://a.example/",
		"https://bücher.example/":                             "https://xn--bcher-kva.example/",
		"https://a.example/x/../y//z/":                        "https://a.example/y/z/",
		"http://[::1]:8080/":                                  "http://[::1]:8080/",
		"//cdn.example/x":                                     "https://cdn.example/x",
		"https://under_score.example/":                        "https://under_score.example/",
		"https://a.example/a%2Fb":                             "https://a.example/a%2Fb",
	} {
		got, err := Clean(in)
		require.NoError(t, err, in)
		assert.Equal(t, want, got, in)
		again, err := Clean(got)
		require.NoError(t, err)
		assert.Equal(t, got, again, "cleaning twice changes nothing")
	}
	for in, want := range map[string]error{
		"": ErrEmpty, "javascript:alert(1)": ErrScheme, "mailto:a@b.example": ErrScheme, "ftp://a.example": ErrScheme,
		"https://": ErrNoHost, "pantry": ErrNoHost, "https://a b.example/": ErrNoHost, "https://a..example": ErrNoHost,
		"chrome-extension://abc/": ErrScheme,
	} {
		_, err := Clean(in)
		assert.ErrorIs(t, err, want, in)
	}
}

// Rules from the public suffix list's own test data, checkPublicSuffix cases of
// test_psl.txt (publicsuffix.org, public domain); from memory.
func TestDomainAgainstThePublicSuffixList(t *testing.T) {
	for in, want := range map[string]string{
		"example.com": "example.com", "b.example.com": "example.com", "a.b.example.com": "example.com",
		"b.c.kobe.jp": "b.c.kobe.jp", "a.b.c.kobe.jp": "b.c.kobe.jp", "www.city.kobe.jp": "city.kobe.jp",
		"test.ac.jp": "test.ac.jp", "www.test.k12.ak.us": "test.k12.ak.us", "www.ck": "www.ck",
		"b.test.ck":     "b.test.ck",
		"www.食狮.com.cn": "xn--85x722f.com.cn", "shishi.xn--55qx5d.cn": "shishi.xn--55qx5d.cn",
	} {
		assert.Equal(t, want, Domain("https://"+in+"/"), in)
	}
	assert.Equal(t, "127.0.0.1", Domain("http://127.0.0.1:80/"))
	assert.Equal(t, "trickster.localhost", Domain("http://gullwing.localhost.trickster.localhost/"))
}

func TestMatches(t *testing.T) {
	cases := []struct {
		kept  string
		match vault.Match
		page  string
		want  bool
	}{
		{"https://bank.example/", vault.MatchSite, "https://www.bank.example/in?x=1", true},
		{"https://www.bank.example/", vault.MatchSite, "https://bank.example/", true},
		{"https://bank.example/", vault.MatchSite, "https://bank.example.trickster.example/", false},
		{"https://bank.example/", vault.MatchSite, "https://notbank.example/", false},
		{"https://bank.example/", vault.MatchSite, "https://bank.example@trickster.example/", false},
		{"https://bank.example/", vault.MatchSite, "https://bank.example./", true},
		{"https://bank.example/", vault.MatchSite, "http://bank.example/", false},
		{"http://bank.example/", vault.MatchSite, "https://bank.example/", true},
		{"https://a.co.uk/", vault.MatchSite, "https://b.co.uk/", false},
		{"https://one.github.io/", vault.MatchSite, "https://two.github.io/", false},
		{"https://a.example/", vault.MatchHost, "https://b.a.example/", false},
		{"https://a.example/", vault.MatchHost, "https://a.example:8443/", false},
		{"https://a.example/in", vault.MatchPage, "https://a.example/in/?q", true},
		{"https://a.example/in", vault.MatchPage, "https://a.example/out", false},
		{"http://127.0.0.1:1/", vault.MatchSite, "http://127.0.0.2:1/", false},
		{"https://a.example/", "future", "https://a.example/", false},
		{"https://a.example/", vault.MatchSite, "a.example", false},
		{"https://a.example/", vault.MatchSite, "javascript:a.example", false},
		{"https://a.example/", vault.MatchSite, "", false},
		{"", vault.MatchSite, "", false},
	}
	for _, c := range cases {
		assert.Equal(
			t,
			c.want,
			Matches(vault.Address{URL: c.kept, Match: c.match}, c.page),
			"%s (%s) at %s",
			c.kept,
			c.match,
			c.page,
		)
	}
}

func TestShownAndTitle(t *testing.T) {
	assert.Equal(t, "gullwing.example/sign-in", Shown("https://gullwing.example/sign-in"))
	assert.Equal(t, "lanternfish.localhost:7310", Shown("http://lanternfish.localhost:7310/"))
	assert.Equal(t, "bücher.example", Shown("https://xn--bcher-kva.example/"))
	assert.Equal(t, "Harbour water", Title("https://my.harbour-water.example/"))
	assert.Equal(t, "127.0.0.1", Title("http://127.0.0.1/"))
}

func TestAnAddressThatGetsTooLong(t *testing.T) {
	_, err := Clean("a.example/" + strings.Repeat("ü", MaxLength/2-10))
	assert.ErrorIs(t, err, ErrTooLong)
}

func FuzzClean(f *testing.F) {
	for _, s := range []string{"https://a.example/", "a.example;sid=1/x", "http://[::1]",
		"https://bücher.example/(S(x))"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, s string) {
		c, err := Clean(s)
		if err != nil {
			return
		}
		again, err := Clean(c)
		if err != nil || again != c {
			t.Fatalf("%q -> %q -> %q, %v", s, c, again, err)
		}
		if !Matches(vault.Address{URL: c}, c) || !Matches(vault.Address{URL: c, Match: vault.MatchPage}, c) {
			t.Fatalf("%q doesn't match itself", c)
		}
		Shown(c)
		Title(c)
	})
}

// TestAddressesAtTheEdge holds host, scheme and port against what a reference implementation
// of the WHATWG URL standard makes of them (Node.js; e2e/addresses.mjs writes the file). An
// address that it refuses must be refused, or have no page that matches; one that it takes may
// be refused here, for a site that nobody keeps a login of, but never be read as another host.
func TestAddressesAtTheEdge(t *testing.T) {
	b, err := os.ReadFile("../../testdata/addresses.json")
	require.NoError(t, err)
	var list []struct {
		Address, Scheme, Host, Port string
		Bad                         bool
	}
	require.NoError(t, json.Unmarshal(b, &list))
	require.Greater(t, len(list), 150)
	taken := 0
	for _, c := range list {
		clean, err := Clean(c.Address)
		if err != nil {
			continue
		}
		if c.Bad {
			t.Errorf("%q is no address, and became %q", c.Address, clean)
			continue
		}
		taken++
		u, err := url.Parse(clean)
		require.NoError(t, err, c.Address)
		assert.Equal(t, c.Scheme, u.Scheme, c.Address)
		want := strings.TrimSuffix(strings.Trim(c.Host, "[]"), ".")
		if a, err := netip.ParseAddr(want); err == nil {
			want = a.String() // written in another way
		}
		assert.Equal(t, want, u.Hostname(), "%q", c.Address)
		assert.Equal(t, c.Port, u.Port(), c.Address)
		assert.Nil(t, u.User, c.Address)
	}
	assert.GreaterOrEqual(t, taken, 35)
}

func TestPublicSuffixListsOwnCases(t *testing.T) {
	b, err := os.ReadFile("../../testdata/test_psl.tsv")
	require.NoError(t, err)
	n := 0
	for line := range strings.Lines(string(b)) {
		host, want, ok := strings.Cut(strings.TrimSuffix(line, "\n"), "\t")
		if !ok || host == "" || strings.HasPrefix(line, "#") {
			continue
		}
		n++
		if want == "" {
			assert.Equal(t, host, domainOf(host), "a suffix is no site: it matches itself alone")
			continue
		}
		assert.Equal(t, want, domainOf(host))
	}
	assert.Greater(t, n, 60)
}
