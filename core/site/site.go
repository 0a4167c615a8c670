// Package site says what an address is, and whether a page belongs to it.
//
// An address as a person types or a browser hands it over is brought to one clean
// form by [Clean]: scheme, host, port and path, without the query strings and
// session ids that would make it unlike itself tomorrow. [Domain] gives the
// registrable domain, which decides whether two hosts are one site; the public
// suffix list (golang.org/x/net/publicsuffix, ICANN and private sections) is
// its source.
//
// [Matches] is the one rule by which a page is held against a kept address.
// Nothing in this program offers or fills a value past a false answer from it.
package site

import (
	"errors"
	"net/netip"
	"net/url"
	"path"
	"regexp"
	"strconv"
	"strings"
	"unicode/utf8"

	"golang.org/x/net/idna"
	"golang.org/x/net/publicsuffix"

	"redlocket/core/vault"
)

// MaxLength is the longest address that is taken, in bytes.
const MaxLength = 2048

// The errors of Clean.
var (
	ErrEmpty   = errors.New("the address is empty")
	ErrTooLong = errors.New("the address is longer than MaxLength")
	ErrNoHost  = errors.New("the address names no host")
	ErrScheme  = errors.New("the address has another scheme than http or https")
)

// Clean brings an address to the form it is kept in. A missing scheme is taken
// as https (http for loopback hosts). User info, query and fragment go; so do
// path parameters that hold a session (";jsessionid=…"), a default port and a
// host's final dot. The host becomes lower-case ASCII (UTS #46, as browsers do).
func Clean(raw string) (string, error) {
	u, err := parse(raw)
	if err != nil {
		return "", err
	}
	u.User, u.RawQuery, u.Fragment, u.RawFragment, u.ForceQuery = nil, "", "", "", false
	p := cleanPath(u.EscapedPath())
	for more := cleanPath(p); more != p; more = cleanPath(p) { // what is taken out may bring other parts together
		p = more
	}
	clean := u.Scheme + "://" + u.Host + p
	if len(clean) > MaxLength { // escaped, it is longer
		return "", ErrTooLong
	}
	return clean, nil
}

func cleanPath(p string) string {
	p = session.ReplaceAllString(p, "")
	if p == "" || p == "." {
		p = "/"
	}
	trailing := strings.HasSuffix(p, "/")
	p = path.Clean("/" + p)
	if trailing && p != "/" {
		p += "/"
	}
	return p
}

// session matches path parameters and segments that carry a session id (common
// practice of servlet and older PHP and ASP servers).
var session = regexp.MustCompile(
	`(?i);(?:jsessionid|phpsessid|aspsessionid\w*|sid|sessionid)=[^/;]*|/\((?:S|F|A)\([^)]*\)\)`,
)

// slashes are those after a scheme: browsers take any number of them, either way (WHATWG URL, special schemes).
var slashes = regexp.MustCompile(`(?i)^(https?):[/\\]*`)

func parse(raw string) (*url.URL, error) {
	raw = strings.TrimSpace(raw)
	switch {
	case raw == "":
		return nil, ErrEmpty
	case len(raw) > MaxLength:
		return nil, ErrTooLong
	}
	raw = slashes.ReplaceAllString(raw, "$1://")
	given := strings.Contains(raw, "://")
	if !given {
		raw = strings.TrimPrefix(raw, "//")
		if head, _, ok := strings.Cut(raw, ":"); ok && !strings.ContainsAny(head, "./") && head != "localhost" {
			return nil, ErrScheme // mailto:, javascript:, about:
		}
		raw = "https://" + raw
	}
	u, err := url.Parse(raw)
	if err != nil {
		return nil, ErrNoHost
	}
	u.Scheme = strings.ToLower(u.Scheme)
	if u.Scheme != "http" && u.Scheme != "https" {
		return nil, ErrScheme
	}
	host, err := cleanHost(u.Hostname())
	if err != nil {
		return nil, err
	}
	if !given && isLoopback(host) {
		u.Scheme = "http"
	}
	port, err := cleanPort(u.Port())
	if err != nil {
		return nil, err
	}
	if port == "80" && u.Scheme == "http" || port == "443" && u.Scheme == "https" {
		port = ""
	}
	u.Host = host
	if strings.Contains(host, ":") {
		u.Host = "[" + host + "]"
	}
	if port != "" {
		u.Host += ":" + port
	}
	return u, nil
}

// cleanPort brings a port to its shortest form.
func cleanPort(port string) (string, error) {
	if port == "" {
		return "", nil
	}
	n, err := strconv.ParseUint(port, 10, 16)
	if err != nil {
		return "", ErrNoHost
	}
	return strconv.FormatUint(n, 10), nil
}

func cleanHost(h string) (string, error) {
	if !utf8.ValidString(h) || strings.ContainsRune(h, utf8.RuneError) { // disallowed by UTS #46
		return "", ErrNoHost
	}
	h = strings.TrimSuffix(h, ".")
	if addr, err := netip.ParseAddr(h); err == nil {
		return addr.WithZone("").String(), nil
	}
	if last := h[strings.LastIndexByte(h, '.')+1:]; last != "" &&
		(onlyDigitsAndDots(last) || strings.HasPrefix(strings.ToLower(last), "0x")) {
		// an IPv4 address written in another way, which browsers rewrite (WHATWG URL, "ends in a number")
		return "", ErrNoHost
	}
	if plainHost(h) {
		return h, nil
	}
	ascii, err := idna.Lookup.ToASCII(h)
	if err != nil && strings.Contains(strings.ToLower(h), "xn--") {
		return "", ErrNoHost
	}
	if err != nil { // underscores and the like: browsers open them, so keep them
		ascii = strings.ToLower(h)
	}
	if ascii != h { // what it stands for may be a number, or end in a dot
		return cleanHost(ascii)
	}
	if ascii == "" || strings.ContainsAny(ascii, " \t/\\%<>\"'") || strings.Contains(ascii, "..") ||
		strings.HasPrefix(ascii, ".") || strings.HasSuffix(ascii, ".") {
		return "", ErrNoHost
	}
	for _, r := range ascii {
		if r > 127 || r < 33 {
			return "", ErrNoHost
		}
	}
	if !strings.Contains(ascii, ".") && ascii != "localhost" {
		return "", ErrNoHost
	}
	return ascii, nil
}

// plainHost reports whether a name is lower-case letters, digits and inner
// hyphens only, in two labels or more: such a name is its own ASCII form. Names
// with "--" where punycode has it are left to idna.
func plainHost(h string) bool {
	dots, last := 0, byte('.')
	for i := 0; i < len(h); i++ {
		b := h[i]
		switch {
		case b >= 'a' && b <= 'z', b >= '0' && b <= '9':
		case b == '-' && last != '.' && last != '-':
		case b == '.' && last != '.' && last != '-':
			dots++
		default:
			return false
		}
		last = b
	}
	return dots > 0 && last != '.' && last != '-' && len(h) < 254
}

func isLoopback(host string) bool {
	if host == "localhost" || strings.HasSuffix(host, ".localhost") {
		return true
	}
	a, err := netip.ParseAddr(host)
	return err == nil && a.IsLoopback()
}

// Secure reports whether nobody on the way can read what is sent to an address: it came over
// https, or from this computer (W3C Secure Contexts, "potentially trustworthy origin").
func Secure(address string) bool {
	u, err := url.Parse(address)
	if err != nil {
		return false
	}
	host := strings.TrimSuffix(strings.ToLower(u.Hostname()), ".")
	return u.Scheme == "https" || u.Scheme == "http" && isLoopback(host)
}

// Host returns a clean address's host, without port; empty for a bad one.
func Host(address string) string {
	u, err := parse(address)
	if err != nil {
		return ""
	}
	return u.Hostname()
}

// Domain returns the registrable domain of an address: the public suffix and
// one label more. For IP addresses and bare suffixes it is the host itself.
func Domain(address string) string { return domainOf(Host(address)) }

func domainOf(host string) string {
	if host == "" || strings.Contains(host, ":") {
		return host
	}
	if last := host[len(host)-1]; last >= '0' && last <= '9' { // no top-level domain ends in a digit
		if _, err := netip.ParseAddr(host); err == nil {
			return host
		}
	}
	d, err := publicsuffix.EffectiveTLDPlusOne(host)
	if err != nil {
		return host
	}
	return d
}

// Shown returns a clean address as the book shows it: without scheme or
// trailing slash, international names in their own letters where that is safe.
func Shown(address string) string {
	shown, _ := Names(address)
	return shown
}

// Names returns what Shown and Domain return, for one reading of the address.
func Names(address string) (shown, domain string) {
	u, err := parse(address)
	if err != nil {
		return address, ""
	}
	host, name := u.Host, u.Hostname()
	if strings.Contains(name, "xn--") && u.Port() == "" {
		if uni, err := idna.Display.ToUnicode(name); err == nil {
			host = uni
		}
	}
	return strings.TrimSuffix(host+u.EscapedPath(), "/"), domainOf(name)
}

// Matches reports whether the page belongs to a kept address, by its match rule.
// A page on plain http never matches an address kept as https: whoever sits on
// the line could be serving it. The reverse is an upgrade and does match.
func Matches(kept vault.Address, page string) bool {
	k, err := parse(kept.URL)
	if err != nil {
		return false
	}
	p, err := parse(page)
	if err != nil || !strings.Contains(page, "://") {
		return false
	}
	if k.Scheme == "https" && p.Scheme == "http" {
		return false
	}
	switch kept.Match {
	case vault.MatchSite:
		return Domain(kept.URL) == Domain(page)
	case vault.MatchHost:
		return k.Host == p.Host
	case vault.MatchPage:
		return k.Host == p.Host &&
			strings.TrimSuffix(path.Clean("/"+k.Path), "/") == strings.TrimSuffix(path.Clean("/"+p.Path), "/")
	}
	return false // a rule of a newer version: rather nothing than too much
}

// Title makes a title from an address: the registrable domain's first label with
// a capital, for want of anything better.
func Title(address string) string {
	label, _, _ := strings.Cut(Domain(address), ".")
	if label == "" || Host(address) == Domain(address) && strings.ContainsAny(label, ":0123456789") {
		return Host(address)
	}
	if uni, err := idna.Display.ToUnicode(label); err == nil {
		label = uni
	}
	r := []rune(strings.ReplaceAll(label, "-", " "))
	return strings.ToUpper(string(r[:1])) + string(r[1:])
}
