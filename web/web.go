// Package web is the device app's pages: it decodes a request, calls one use
// case of package app, and renders. No rule of the job lives here.
//
// A page is a template of templates/, composed of named blocks; a block renders
// the same thing in the page and in its htmx fragment. Pages run under a
// content policy without inline script or style, answer to known Host names
// only, and take no request that another site made.
package web

import (
	"bytes"
	"context"
	"crypto/sha256"
	"embed"
	"encoding/hex"
	"errors"
	"html/template"
	"io/fs"
	"log/slog"
	"net"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/alexedwards/scs/v2"
	"github.com/go-chi/chi/v5"

	"redlocket/app"
	"redlocket/app/gate"
	"redlocket/app/reauth"
	"redlocket/app/records"
)

//go:embed templates/*.html
var templateFiles embed.FS

//go:embed static
var staticFiles embed.FS

// Config says where a device app is and what belongs to it.
type Config struct {
	Hosts     []string // names it answers to, without port; the first is its own
	Cloud     string   // what is offered as the cloud's address
	Log       *slog.Logger
	Browsers  Browsers
	Extension func(browser string) ([]byte, error) // the packed extension
}

// Browsers are the connected browsers, as the pages show them.
type Browsers interface {
	http.Handler // the extension's channel, under /bridge/
	// Waiting returns the browsers that ask to be connected.
	Waiting() []app.Browser
	// Confirm connects a waiting browser to a vault.
	Confirm(ctx context.Context, id string, v *app.Vault) error
	Refuse(id string)
	Connected(ctx context.Context, v *app.Vault) ([]app.Browser, error)
	End(ctx context.Context, v *app.Vault, id string) error
}

// Server serves the pages.
type Server struct {
	http.Handler
	device     *app.Device
	cfg        Config
	sessions   *scs.SessionManager
	pages      *template.Template
	static     string // hash of the static files, part of their path
	medallions medallions
	done       chan struct{}
}

const (
	maxForm        = 2 << 20
	sessionProfile = "profile"
	sessionOpening = "opening"
	sessionSaid    = "said" // what the next page says was done
	sessionUndo    = "undo" // and what takes it back
)

// New returns the pages of a device.
func New(d *app.Device, cfg Config) (*Server, error) {
	s := &Server{device: d, cfg: cfg, sessions: scs.New(), done: make(chan struct{})}
	s.sessions.Cookie.Name = "redlocket"
	s.sessions.Cookie.HttpOnly = true
	s.sessions.Cookie.SameSite = http.SameSiteStrictMode
	s.sessions.Cookie.Persist = false
	s.sessions.Lifetime = 15 * 24 * time.Hour // above the longest time to lock
	var err error
	if s.static, err = hashFiles(staticFiles); err != nil {
		return nil, err
	}
	if s.pages, err = template.New("").Funcs(s.funcs()).ParseFS(templateFiles, "templates/*.html"); err != nil {
		return nil, err
	}
	s.Handler = s.routes()
	return s, nil
}

// Close ends the event streams.
func (s *Server) Close() { close(s.done) }

// bundles are files that are sent as one: each one more is a pause in which the browser
// does something else.
var bundles = map[string][]string{
	"page.css": {"vendor/bootstrap.min.css", "redlocket.css"},
	"vault.js": {"page.js", "ask.js", "book.js", "copy.js", "form.js", "import.js", "keys.js", "live.js"}, // run in this order
}

func bundle(name string) http.Handler {
	var b []byte
	for _, part := range bundles[name] {
		p, err := staticFiles.ReadFile("static/" + part)
		if err != nil {
			panic(err) // the files are compiled in
		}
		b = append(b, p...)
	}
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		http.ServeContent(w, r, name, time.Time{}, bytes.NewReader(b))
	})
}

func hashFiles(files fs.FS) (string, error) {
	h := sha256.New()
	err := fs.WalkDir(files, ".", func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		b, err := fs.ReadFile(files, path)
		h.Write([]byte(path))
		h.Write(b)
		return err
	})
	return hex.EncodeToString(h.Sum(nil))[:12], err
}

func (s *Server) routes() http.Handler {
	r := chi.NewRouter()
	r.Use(s.knownHost, headers)
	files, _ := fs.Sub(staticFiles, "static")
	forever := func(next http.Handler) http.Handler {
		return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			w.Header().Set("Cache-Control", "public, max-age=31536000, immutable")
			http.StripPrefix("/static/"+chi.URLParam(r, "hash"), next).ServeHTTP(w, r)
		})
	}
	r.Handle("/static/{hash}/*", forever(http.FileServerFS(files)))
	for name := range bundles {
		r.Handle("/static/{hash}/"+name, forever(bundle(name)))
	}
	if s.cfg.Browsers != nil {
		r.Handle("/bridge/*", s.cfg.Browsers)
	}
	r.Group(func(r chi.Router) {
		r.Use(http.NewCrossOriginProtection().Handler, s.sessions.LoadAndSave)
		r.With(s.needOpen, s.needSheet).Post("/pictures", s.readPicture)
		r.With(s.needOpen, s.needSheet).Post("/items/{id}/files", s.attach)
		r.With(s.needOpen, s.needSheet).Post("/import/files", s.takeFiles)
		r.With(s.needOpen, s.needSheet).Post("/import/backup", s.restoreBackup)
		r.Group(s.small)
	})
	r.NotFound(s.sessions.LoadAndSave(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		s.problem(w, r, http.StatusNotFound, "There is no such page", "The address may be old, or cut short.")
	})).ServeHTTP)
	return r
}

// small are the routes whose requests are forms.
func (s *Server) small(r chi.Router) {
	r.Use(limit)
	r.Get("/", s.home)
	r.Get("/front", s.front)
	r.Get("/open/{profile}", s.openPage)
	r.Post("/open/{profile}", s.open)
	r.Get("/forgot/{profile}", s.forgotPage)
	r.Post("/forgot/{profile}", s.forgot)
	r.Get("/new", s.newPage)
	r.Post("/new", s.create)
	r.Get("/join", s.joinPage)
	r.Post("/join", s.join)
	r.Post("/arrive", s.arrive)
	r.Get("/arrive/{id}", s.arrival)
	r.Post("/strength", s.strength)
	r.Post("/lock", s.lock)
	r.Get("/extension/{file}", s.extension)
	r.Group(func(r chi.Router) {
		r.Use(s.needOpen)
		r.Get("/events", s.events)
		r.Post("/again", s.confirm)
		r.Post("/left", s.left)
		r.Post("/here", func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(http.StatusNoContent) }) // a use of the vault, by being a request
		r.Get("/sheet", s.sheet)
		r.Post("/sheet", s.checkSheet)
		r.Group(func(r chi.Router) {
			r.Use(s.needSheet)
			for name := range sections {
				r.Get("/"+string(name), s.book)
			}
			r.Get("/rows", s.rows)
			r.Get("/ids", s.ids)
			r.Get("/narrow", s.narrow)
			r.Get("/archive", s.archive)
			r.Get("/items/new", s.newItem)
			r.Get("/sites", s.siteSuggestions)
			r.Post("/acts/{act}", s.act)
			r.Post("/undo/{act}", s.undo)
			r.Post("/generate", s.generate)
			r.Get("/settings", s.settings)
			r.Post("/settings", s.set)
			r.Post("/settings/sites", s.addSites)
			r.Post("/settings/sites/remove", s.removeSite)
			r.Route("/items/{id}", func(r chi.Router) {
				r.Get("/", s.item)
				r.Post("/", s.saveItem)
				r.Get("/edit", s.editItem)
				r.Post("/form", s.changeKind)
				r.Post("/settle", s.settle)
				r.Post("/show", s.showSecret)
				r.Post("/copy", s.copySecret)
				r.Post("/join-code", s.joinCode)
				r.Get("/code", s.code)
				r.Post("/code", s.nextCode)
				r.Post("/used", s.used)
				r.Post("/staged", s.staged)
				r.Get("/vouch", s.vouchPage)
				r.Post("/vouch", s.vouch)
				r.Get("/change", s.changePage)
				r.Post("/apps", s.askApps)
				r.Get("/past", s.past)
				r.Post("/restore-at", s.restoreAt)
				r.Get("/print", s.printed)
				r.Get("/files/{file}", s.file)
				r.Get("/files/{file}/preview", s.preview)
				r.Post("/files/{file}/detach", s.detach)
			})
			r.Route("/import", s.importRoutes)
			r.Post("/export", s.export)
			r.Post("/export/chosen", s.importPage)
			r.Post("/backup", s.backup)
			r.Post("/backup/plan", s.planBackups)
			r.Post("/export/may", s.mayExport)
			r.Get("/devices", s.devices)
			r.Post("/devices/introduce", s.introduce)
			r.Post("/devices/{id}/shut-out", s.shutOut)
			r.Post("/cloud", s.joinCloud)
			r.Post("/cloud/again", s.signInAgain)
			r.Post("/browsers/{id}/confirm", s.confirmBrowser)
			r.Post("/browsers/{id}/refuse", s.refuseBrowser)
			r.Post("/browsers/{id}/end", s.endBrowser)
			r.Get("/browsers", s.browsers)
			r.Post("/sites/rule", s.setRule)
			r.Post("/drawer", s.madeBefore)
			r.Post("/drawer/empty", s.emptyDrawer)
			r.Get("/status", s.statusLine)
		})
	})
}

func (s *Server) importRoutes(r chi.Router) {
	r.Get("/", s.importPage)
	r.Post("/columns", s.setColumns)
	r.Post("/decide", s.decide)
	r.Post("/show", s.showCandidate)
	r.Get("/broken.csv", s.brokenRows)
	r.Post("/start", s.startImport)
	r.Post("/stop", s.stopImport)
	r.Post("/put-back", s.putBack)
	r.Post("/{id}/undo", s.undoImport)
	r.Get("/{id}/originals/{n}", s.original)
	r.Post("/{id}/forget", s.forgetOriginals)
}

// knownHost refuses names that aren't this device's: a site that lets its own
// name point here (DNS rebinding) gets nothing. Plain localhost leads on.
func (s *Server) knownHost(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		host, port, err := net.SplitHostPort(r.Host)
		if err != nil {
			host, port = r.Host, ""
		}
		host = strings.ToLower(host)
		switch {
		case slices.Contains(s.cfg.Hosts, host):
			next.ServeHTTP(w, r)
		case (host == "localhost" || host == "127.0.0.1" || host == "::1") && (r.Method == http.MethodGet || r.Method == http.MethodHead):
			target := s.cfg.Hosts[0]
			if port != "" {
				target = net.JoinHostPort(target, port)
			}
			http.Redirect(w, r, "http://"+target+r.URL.RequestURI(), http.StatusTemporaryRedirect)
		default:
			http.Error(w, "This name doesn't belong to Red Locket.", http.StatusMisdirectedRequest)
		}
	})
}

func headers(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		h := w.Header()
		h.Set("Content-Security-Policy", "default-src 'none'; script-src 'self'; style-src 'self'; img-src 'self'; font-src 'self'; connect-src 'self'; worker-src 'self'; form-action 'self'; base-uri 'none'; frame-ancestors 'none'")
		h.Set("X-Content-Type-Options", "nosniff")
		h.Set("X-Frame-Options", "DENY")
		h.Set("Referrer-Policy", "no-referrer")
		h.Set("Cross-Origin-Opener-Policy", "same-origin")
		h.Set("Cross-Origin-Resource-Policy", "same-origin")
		h.Set("Permissions-Policy", "camera=(), microphone=(), geolocation=()")
		h.Set("Cache-Control", "no-store")
		next.ServeHTTP(w, r)
	})
}

func limit(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		r.Body = http.MaxBytesReader(w, r.Body, maxForm)
		next.ServeHTTP(w, r)
	})
}

type vaultKey struct{}

// opened returns the vault that this browser session has open.
func (s *Server) opened(r *http.Request) (*app.Vault, bool) {
	v, ok := s.device.Vault(s.sessions.GetString(r.Context(), sessionProfile))
	if !ok || v.Instance() != s.sessions.GetString(r.Context(), sessionOpening) {
		return nil, false
	}
	return v, true
}

func (s *Server) enter(r *http.Request, v *app.Vault) error {
	if err := s.sessions.RenewToken(r.Context()); err != nil {
		return err
	}
	s.sessions.Put(r.Context(), sessionProfile, v.Profile().ID)
	s.sessions.Put(r.Context(), sessionOpening, v.Instance())
	return nil
}

func (s *Server) needOpen(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		v, ok := s.opened(r)
		if !ok {
			s.toLock(w, r)
			return
		}
		// What pages do by themselves is no use of the vault.
		if r.Header.Get("X-By-Itself") == "" && r.URL.Path != "/events" && r.URL.Path != "/status" && r.URL.Path != "/left" {
			v.Touch()
		}
		ctx := context.WithValue(r.Context(), versionKey{}, v.Version())
		next.ServeHTTP(w, r.WithContext(context.WithValue(ctx, vaultKey{}, v)))
	})
}

// needSheet leads back to a recovery sheet that has yet to be checked.
func (s *Server) needSheet(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if vaultOf(r).Account.SheetWaits(r.Context()) {
			redirect(w, r, "/sheet")
			return
		}
		next.ServeHTTP(w, r)
	})
}

func vaultOf(r *http.Request) *app.Vault { return r.Context().Value(vaultKey{}).(*app.Vault) }

func (s *Server) toLock(w http.ResponseWriter, r *http.Request) {
	to := "/front"
	if p := s.sessions.GetString(r.Context(), sessionProfile); p != "" {
		to = "/open/" + p
	}
	redirect(w, r, to)
}

// redirect leads to another page, for htmx as for plain requests.
func redirect(w http.ResponseWriter, r *http.Request, to string) {
	if r.Header.Get("HX-Request") != "" {
		w.Header().Set("HX-Redirect", to)
		w.WriteHeader(http.StatusNoContent)
		return
	}
	http.Redirect(w, r, to, http.StatusSeeOther)
}

// ask answers an act that needs the master password first: scripts get a status
// that says so, pages a form.
func (s *Server) ask(w http.ResponseWriter, r *http.Request) {
	if r.Header.Get("HX-Request") != "" || r.Header.Get("Sec-Fetch-Mode") == "cors" || r.Header.Get("Sec-Fetch-Mode") == "same-origin" {
		w.WriteHeader(http.StatusUnauthorized)
		return
	}
	to := back(r)
	if r.Method == http.MethodGet {
		to = r.URL.RequestURI()
	}
	s.render(w, r, http.StatusUnauthorized, "ask-page", s.view(r, "Once more", "", to))
}

// fail shows an error: as a page, or for htmx as a bar where the page shows them.
func (s *Server) fail(w http.ResponseWriter, r *http.Request, err error) {
	switch {
	case errors.Is(err, gate.ErrLocked):
		s.toLock(w, r)
	case errors.Is(err, reauth.ErrNeeded):
		s.ask(w, r)
	case errors.Is(err, records.ErrNoItem), errors.Is(err, app.ErrNoProfile):
		s.problem(w, r, http.StatusNotFound, "This isn't here", "It may have been put away on another device, or the address is old.")
	default:
		var in *records.InputError
		if errors.As(err, &in) {
			s.problem(w, r, http.StatusUnprocessableEntity, "That didn't work", sentence(in.Error())+" Nothing was changed.")
			return
		}
		s.cfg.Log.ErrorContext(r.Context(), "request failed", "route", chi.RouteContext(r.Context()).RoutePattern(), "err", err)
		s.problem(w, r, http.StatusInternalServerError, "Something went wrong here", sentence(err.Error())+" What was saved before is safe. Please try again.")
	}
}

func sentence(s string) string {
	if s == "" {
		return s
	}
	r := []rune(s)
	s = strings.ToUpper(string(r[0])) + string(r[1:])
	if !strings.HasSuffix(s, ".") {
		s += "."
	}
	return s
}
