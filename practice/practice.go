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
	"strings"
	"sync"
	"unicode/utf8"
)

//go:embed templates/*.html static
var files embed.FS

// Shape is how a site signs people in and up.
type Shape string

// The shapes.
const (
	OnePage  Shape = "one page"
	TwoPages Shape = "two pages"
)

// Site is one site of the town.
type Site struct {
	Name  string // of its host
	Title string
	Line  string // what it is, in a few words
	Shape Shape
	User  string // what it calls the user name
	Mail  bool   // whether that must be an e-mail address
	Least int    // characters of a password
}

// Sites are the town's sites.
var Sites = []Site{
	{"lanternfish", "Lanternfish", "Films at home", OnePage, "E-mail", true, 8},
	{"gullwing", "Gullwing Credit Union", "Your money, ashore and afloat", OnePage, "User name", false, 10},
	{"cormorant", "Cormorant Mail", "Letters that find you", TwoPages, "Address", true, 8},
}

// Resident is an account that is there from the start.
type Resident struct{ Site, User, Password string }

// Town is an http.Handler for all sites at once, told apart by host name.
type Town struct {
	pages *template.Template

	mu       sync.Mutex
	accounts map[string]map[string][32]byte // by site, then user: password hash
	sessions map[string]string              // token: site and user
	salt     string
}

// New returns a town with the given residents.
func New(residents []Resident) (*Town, error) {
	pages, err := template.ParseFS(files, "templates/*.html")
	if err != nil {
		return nil, fmt.Errorf("failed to read the practice town's pages: %w", err)
	}
	t := &Town{pages: pages, accounts: map[string]map[string][32]byte{}, sessions: map[string]string{}, salt: rand.Text()}
	for _, r := range residents {
		t.settle(r.Site, r.User, r.Password)
	}
	return t, nil
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

func (t *Town) knows(site, user, password string) bool {
	t.mu.Lock()
	defer t.mu.Unlock()
	user = strings.ToLower(user)
	want, ok := t.accounts[site][user]
	got := t.hash(site, user, password)
	return subtle.ConstantTimeCompare(want[:], got[:]) == 1 && ok
}

type page struct {
	Site  Site
	Sites []Site
	Port  string
	User  string
	Typed string
	Error string
	Host  string
}

// ServeHTTP leads to the site that the host name names.
func (t *Town) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	r.Body = http.MaxBytesReader(w, r.Body, 1<<16)
	host, port, err := net.SplitHostPort(r.Host)
	if err != nil {
		host = r.Host
	}
	w.Header().Set("Content-Security-Policy", "default-src 'none'; style-src 'self'; font-src 'self'; frame-src *; form-action 'self'; base-uri 'none'")
	w.Header().Set("Cache-Control", "no-store")
	if r.URL.Path == "/town.css" {
		http.ServeFileFS(w, r, files, "static/town.css")
		return
	}
	p := page{Sites: Sites, Port: port, Host: r.Host}
	name, _ := strings.CutSuffix(host, ".localhost")
	for _, s := range Sites {
		if s.Name == name {
			p.Site = s
			t.site(w, r, p)
			return
		}
	}
	switch {
	case strings.HasSuffix(host, ".trickster.localhost"):
		p.Site = Sites[1]
		t.show(w, http.StatusOK, "trick", p)
	case name == "framed":
		t.show(w, http.StatusOK, "framed", p)
	case name == "practice" || net.ParseIP(host) != nil || host == "localhost":
		t.show(w, http.StatusOK, "town", p)
	default:
		t.show(w, http.StatusNotFound, "nowhere", p)
	}
}

func (t *Town) show(w http.ResponseWriter, status int, name string, p page) {
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	w.WriteHeader(status)
	_ = t.pages.ExecuteTemplate(w, name, p) // the reader is gone if this fails
}

const cookie = "session"

func (t *Town) signedIn(r *http.Request, site string) string {
	c, err := r.Cookie(cookie)
	if err != nil {
		return ""
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	at, user, _ := strings.Cut(t.sessions[c.Value], " ")
	if at != site {
		return ""
	}
	return user
}

func (t *Town) letIn(w http.ResponseWriter, r *http.Request, site, user string) {
	token := rand.Text()
	t.mu.Lock()
	t.sessions[token] = site + " " + user
	t.mu.Unlock()
	http.SetCookie(w, &http.Cookie{Name: cookie, Value: token, Path: "/", HttpOnly: true, SameSite: http.SameSiteLaxMode})
	http.Redirect(w, r, "/welcome", http.StatusSeeOther)
}

func (t *Town) site(w http.ResponseWriter, r *http.Request, p page) {
	p.User = t.signedIn(r, p.Site.Name)
	p.Typed = strings.TrimSpace(r.PostFormValue("user"))
	password := r.PostFormValue("password")
	switch r.Method + " " + r.URL.Path {
	case "GET /":
		t.show(w, http.StatusOK, "home", p)
	case "GET /sign-in":
		t.show(w, http.StatusOK, signInPage(p.Site), p)
	case "POST /sign-in/password":
		if p.Typed == "" {
			p.Error = "Please type your " + strings.ToLower(p.Site.User) + "."
			t.show(w, http.StatusUnprocessableEntity, "sign-in-first", p)
			return
		}
		t.show(w, http.StatusOK, "sign-in-second", p)
	case "POST /sign-in":
		if !t.knows(p.Site.Name, p.Typed, password) {
			p.Error = "The " + strings.ToLower(p.Site.User) + " or the password is not right."
			again := "sign-in"
			if p.Site.Shape == TwoPages {
				again = "sign-in-second"
			}
			t.show(w, http.StatusUnauthorized, again, p)
			return
		}
		t.letIn(w, r, p.Site.Name, p.Typed)
	case "GET /sign-up":
		t.show(w, http.StatusOK, "sign-up", p)
	case "POST /sign-up":
		if p.Error = refuse(p.Site, p.Typed, password, r.PostFormValue("repeat")); p.Error == "" && !t.settle(p.Site.Name, p.Typed, password) {
			p.Error = "Somebody has that " + strings.ToLower(p.Site.User) + " already."
		}
		if p.Error != "" {
			t.show(w, http.StatusUnprocessableEntity, "sign-up", p)
			return
		}
		t.letIn(w, r, p.Site.Name, p.Typed)
	case "GET /welcome":
		if p.User == "" {
			http.Redirect(w, r, "/sign-in", http.StatusSeeOther)
			return
		}
		t.show(w, http.StatusOK, "welcome", p)
	case "POST /sign-out":
		if c, err := r.Cookie(cookie); err == nil {
			t.mu.Lock()
			delete(t.sessions, c.Value)
			t.mu.Unlock()
		}
		http.Redirect(w, r, "/", http.StatusSeeOther)
	default:
		t.show(w, http.StatusNotFound, "nowhere", p)
	}
}

func signInPage(s Site) string {
	if s.Shape == TwoPages {
		return "sign-in-first"
	}
	return "sign-in"
}

func refuse(s Site, user, password, repeat string) string {
	switch {
	case user == "":
		return "Please type your " + strings.ToLower(s.User) + "."
	case s.Mail && !strings.Contains(strings.Trim(user, "@"), "@"):
		return "That isn't an e-mail address."
	case utf8.RuneCountInString(password) < s.Least:
		return fmt.Sprintf("The password needs at least %d characters.", s.Least)
	case password != repeat:
		return "The two passwords are not the same."
	}
	return ""
}
