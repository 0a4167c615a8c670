// Package practice is the practice town: stand-ins for the sites that a person
// signs in to, to try Red Locket on. Each has accounts, sessions and a server that
// really checks; a wrong password is refused.
//
// Every site has a host name of its own, NAME.localhost, so that browsers and the
// rules of package site take it for a site of its own. The town forgets its
// accounts when it stops, but for the residents it was given.
package practice

import (
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"embed"
	"fmt"
	"html/template"
	"net"
	"net/http"
	"slices"
	"strings"
	"sync"
)

//go:embed templates/*.html static
var files embed.FS

// Resident is an account that is there from the start.
type Resident struct{ Site, User, Password string }

// Town is an http.Handler for all sites at once, told apart by host name.
type Town struct {
	pages *template.Template
	watch *watchHouse
	post  *postOffice

	mu       sync.Mutex
	accounts map[string]map[string][32]byte // by site, then user: password hash
	sessions map[string]string              // token: site and user
	halfway  map[string]string              // token: site and user, who has yet to show a code
	letters  map[string]string              // token of a letter about a forgotten password: site and user
	baskets  map[string]map[string]string   // token of a basket: what the payment company was told, by field
	wrong    map[string]int                 // site and user: wrong passwords since the last right one
	salt     string
}

// New returns a town with the given residents.
func New(residents []Resident) (*Town, error) {
	pages, err := template.New("").Funcs(template.FuncMap{"upto": upTo}).ParseFS(files, "templates/*.html")
	if err != nil {
		return nil, fmt.Errorf("failed to read the practice town's pages: %w", err)
	}
	t := &Town{
		pages:    pages,
		watch:    newWatchHouse(),
		post:     &postOffice{},
		accounts: map[string]map[string][32]byte{},
		sessions: map[string]string{},
		halfway:  map[string]string{},
		letters:  map[string]string{},
		baskets:  map[string]map[string]string{},
		wrong:    map[string]int{},
		salt:     rand.Text(),
	}
	for _, r := range residents {
		t.settle(r.Site, r.User, r.Password)
	}
	return t, nil
}

// upTo lists whole numbers with so many digits at least.
func upTo(from, to, digits int) (out []string) {
	for i := from; i <= to; i++ {
		out = append(out, fmt.Sprintf("%0*d", digits, i))
	}
	return out
}

func (t *Town) hash(site, user, password string) [32]byte {
	return sha256.Sum256([]byte(t.salt + "\x00" + site + "\x00" + user + "\x00" + password))
}

func (t *Town) settle(site, user, password string) bool {
	t.mu.Lock()
	defer t.mu.Unlock()
	user = strings.ToLower(user)
	if t.accounts[site] == nil {
		t.accounts[site] = map[string][32]byte{}
	}
	if _, taken := t.accounts[site][user]; taken {
		return false
	}
	t.accounts[site][user] = t.hash(site, user, password)
	return true
}

func (t *Town) change(site, user, password string) {
	t.mu.Lock()
	defer t.mu.Unlock()
	user = strings.ToLower(user)
	t.accounts[site][user] = t.hash(site, user, password)
}

func (t *Town) knows(site, user, password string) bool {
	t.mu.Lock()
	defer t.mu.Unlock()
	user = strings.ToLower(user)
	want, ok := t.accounts[site][user]
	got := t.hash(site, user, password)
	return subtle.ConstantTimeCompare(want[:], got[:]) == 1 && ok
}

// mostWrong is after how many wrong passwords a site locks an account.
const mostWrong = 5

// locked counts a try at an account, and reports whether the site has locked it.
func (t *Town) locked(s Site, user string, right bool) bool {
	t.mu.Lock()
	defer t.mu.Unlock()
	who := s.Name + " " + strings.ToLower(user)
	if !s.Locks || t.wrong[who] >= mostWrong {
		return s.Locks
	}
	if t.wrong[who]++; right {
		delete(t.wrong, who)
	}
	return false
}

type page struct {
	Site  Site
	W     words
	Sites []Site
	Port  string
	User  string // who is signed in
	Typed string
	Error string
	Said  string
	Host  string
	Names names // of the fields of this page
	Token string
	Frame bool
	Field hosted // of a payment company's frame
}

// Houses are the houses of the town's front page.
func (p page) Houses() []House { return Houses() }

// UserWord is what the site calls the user name.
func (p page) UserWord() string {
	switch {
	case p.Site.User != "":
		return p.Site.User
	case p.Site.Mail:
		return p.W.Mail
	}
	return p.W.User
}

// hosted is a field of a checkout that stands in a frame.
type hosted struct{ Name, Label, Token string }

// Hosted are those of a page.
func (p page) Hosted() []hosted {
	return []hosted{
		{"number", p.W.Card, "cc-number"},
		{"expiry", p.W.Expiry, "cc-exp"},
		{"safety", p.W.Safety, "cc-csc"},
	}
}

// UserType is the type of the field for the user name.
func (p page) UserType() string {
	switch {
	case p.Site.Mail:
		return "email"
	case p.Site.Name == "yawl":
		return "tel"
	}
	return "text"
}

// Lang is the language of the page.
func (p page) Lang() string {
	if p.Site.Lang == "" {
		return "en"
	}
	return p.Site.Lang
}

// names are how a page calls its fields. One of a shape that renames them has new ones each
// time.
type names struct{ User, Password, Repeat, Current string }

func namesOf(s Site) names {
	if s.Shape != Late {
		return names{"user", "password", "repeat", "current"}
	}
	tail := strings.ToLower(rand.Text()[:6])
	return names{"q1" + tail, "q2" + tail, "q3" + tail, "q4" + tail}
}

// value reads one field of a request, whatever the page called it.
func value(r *http.Request, name string) string {
	if v := r.PostFormValue(name); v != "" {
		return v
	}
	prefix := map[string]string{"user": "q1", "password": "q2", "repeat": "q3", "current": "q4"}[name]
	for k, v := range r.PostForm {
		if prefix != "" && strings.HasPrefix(k, prefix) && len(v) > 0 {
			return v[0]
		}
	}
	return ""
}

// ServeHTTP leads to the site that the host name names.
func (t *Town) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	r.Body = http.MaxBytesReader(w, r.Body, 1<<20)
	host, port, err := net.SplitHostPort(r.Host)
	if err != nil {
		host = r.Host
	}
	w.Header().
		Set("Content-Security-Policy", "default-src 'none'; style-src 'self'; script-src 'self'; connect-src "+
			"'self'; font-src 'self'; frame-src *; form-action 'self'; base-uri 'none'")
	w.Header().Set("Cache-Control", "no-store")
	if r.URL.Path == "/town.css" || r.URL.Path == "/town.js" {
		http.ServeFileFS(w, r, files, "static"+r.URL.Path)
		return
	}
	p := page{Sites: Sites, Port: port, Host: r.Host, W: tongues["en"]}
	name, _ := strings.CutSuffix(host, ".localhost")
	for _, s := range Sites {
		if s.Name == name || name == "id."+s.Name && s.Shape == Away {
			p.Site, p.Names = s, namesOf(s)
			p.W = tongues[p.Lang()]
			p.Frame = name != s.Name || strings.HasPrefix(r.URL.Path, "/frame/")
			r.URL.Path = strings.TrimPrefix(r.URL.Path, "/frame")
			t.site(w, r, p)
			return
		}
	}
	switch {
	case strings.HasSuffix(host, ".trickster.localhost"), slices.Contains(Tricks, name):
		p.Site = Sites[1]
		t.show(w, http.StatusOK, "trick", p)
	case name == "bowsprit":
		t.bowsprit(w, r, p)
	case name == "leaks":
		t.watchHouse(w, r, p)
	case name == "post":
		t.postOffice(w, r, p)
	case name == "framed":
		t.show(w, http.StatusOK, "framed", p)
	case name == "practice" || net.ParseIP(host) != nil || host == "localhost":
		t.show(w, http.StatusOK, "town", p)
	default:
		t.show(w, http.StatusNotFound, "nowhere", p)
	}
}

// Tricks are hosts that imitate the credit union.
var Tricks = []string{"gu11wing", "gulwling", "gullwing-login", "gullvving"}

func (t *Town) show(w http.ResponseWriter, status int, name string, p page) {
	t.draw(w, status, name, p)
}

func (t *Town) draw(w http.ResponseWriter, status int, name string, p any) {
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	w.WriteHeader(status)
	_ = t.pages.ExecuteTemplate(w, name, p) // the reader is gone if this fails
}
