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
)

//go:embed templates/*.html
var templateFiles embed.FS

//go:embed static
var staticFiles embed.FS

// Config says where a device app is and what belongs to it.
type Config struct {
	Hosts     []string // names it answers to, without port; the first is its own
	Origin    string   // its own, scheme and port with it: authenticators answer to that one alone
	Cloud     string   // what is offered as the cloud's address
	Log       *slog.Logger
	Browsers  Browsers
	Extension func(browser string) ([]byte, error) // the packed extension

	// What is offered as the addresses of a leak service and a mail server.
	LeakService, MailServer string
}

// Browsers are the connected browsers, as the pages show them.
type Browsers interface {
	http.Handler // the extension's channel, under /bridge/
	// Waiting returns the browsers that ask to be connected to a profile's vault.
	Waiting(profile string) []app.Browser
	// Confirm connects a waiting browser to the vault that it asked for.
	Confirm(ctx context.Context, id string, v *app.Vault) error
	Refuse(id string, v *app.Vault)
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
	ceremonies ceremonies
	done       chan struct{}
}

const (
	maxForm        = 2 << 20
	sessionProfile = "profile"
	sessionOpening = "opening"
	sessionOrigin  = "origin key"
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

// pageStyles are the style sheets of all pages, in the order in which they count.
var pageStyles = []string{
	"vendor/bootstrap.min.css",
	"css/theme.css", "css/cover.css", "css/medallion.css", "css/chain.css", "css/top.css", "css/book.css",
	"css/sheet.css", "css/import.css", "css/history.css", "css/form.css", "css/settings.css", "css/print.css",
	"css/secret.css", "css/foot.css", "css/fields.css", "css/devices.css", "css/dialog.css", "css/narrow.css",
	"css/staged.css", "css/tidy.css", "css/weak.css", "css/day.css", "css/first.css", "css/household.css",
	"css/books.css",
}

// stylesFile is what the style sheets are sent as: each one more is a pause in which the
// browser does something else.
const stylesFile = "page.css"

func styles() http.Handler {
	var b []byte
	for _, part := range pageStyles {
		p, err := staticFiles.ReadFile("static/" + part)
		if err != nil {
			panic(err) // the files are compiled in
		}
		b = append(b, p...)
	}
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		http.ServeContent(w, r, stylesFile, time.Time{}, bytes.NewReader(b))
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
	s.staticRoutes(r)
	if s.cfg.Browsers != nil {
		r.Handle("/bridge/*", s.cfg.Browsers)
	}
	r.Group(func(r chi.Router) {
		r.Use(http.NewCrossOriginProtection().Handler, s.sessions.LoadAndSave)
		opened := routes{r, s}.with(s.needOpen)
		checked := opened.with(s.needSheet) // what needs the recovery sheet checked first
		front, settings := frontPages{s}, settingsPages{s}
		front.routes(routes{r, s}.with(limit))
		front.sheetRoutes(opened.with(limit))
		front.seekRoutes(routes{r, s}.with(limit))
		accountPages{s}.firstRoutes(opened.with(limit))
		firstPages{s}.frontRoutes(routes{r, s}.with(limit))
		firstPages{s}.sessionRoutes(opened.with(limit))
		platformPages{s}.frontRoutes(routes{r, s}.with(limit))
		platformPages{s}.sessionRoutes(opened.with(limit))
		settings.sessionRoutes(opened.with(limit))
		s.uploadRoutes(checked)
		for _, area := range []interface{ routes(routes) }{
			bookPages{s}, dayPages{s}, actPages{s}, itemPages{s}, formPages{s}, secretPages{s}, signInPages{s},
			filePages{s}, importPages{s}, exportPages{s}, tidyPages{s}, weakPages{s}, settings, devicesPages{s},
			accountPages{s}, platformPages{s}, firstPages{s}, masterPages{s}, secondPages{s}, householdPages{s},
			booksPages{s}, sharingPages{s}, handPages{s},
		} {
			area.routes(checked.with(limit))
		}
	})
	r.NotFound(s.sessions.LoadAndSave(s.handle(func(http.ResponseWriter, *http.Request) error {
		return problem(http.StatusNotFound, "There is no such page", "The address may be old, or cut short.")
	})).ServeHTTP)
	return r
}

// staticRoutes serves what ships with the program, under a name that changes with it.
func (s *Server) staticRoutes(r chi.Router) {
	files, _ := fs.Sub(staticFiles, "static") // the folder is compiled in
	forever := func(next http.Handler) http.Handler {
		return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			w.Header().Set("Cache-Control", "public, max-age=31536000, immutable")
			http.StripPrefix("/static/"+chi.URLParam(r, "hash"), next).ServeHTTP(w, r)
		})
	}
	r.Handle("/static/{hash}/*", forever(http.FileServerFS(files)))
	r.Handle("/static/{hash}/"+stylesFile, forever(styles()))
}

// uploadRoutes are those whose requests are larger than a form; each sets its own limit.
func (s *Server) uploadRoutes(r routes) {
	r.post("/pictures", s.readPicture)
	r.post("/household/{id}/code", householdPages{s}.readCode)
	r.post("/household/{id}/notes", householdPages{s}.pass)
	r.post("/items/{id}/files", s.attach)
	r.post("/import/files", s.takeFiles)
	r.post("/import/backup", s.restoreBackup)
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
		case (host == "localhost" || host == "127.0.0.1" || host == "::1") && (r.Method == http.MethodGet ||
			r.Method == http.MethodHead):
			target := s.cfg.Hosts[0]
			if port != "" {
				target = net.JoinHostPort(target, port)
			}
			http.Redirect(w, r, "http://"+target+r.URL.RequestURI(), http.StatusTemporaryRedirect)
		default:
			http.Error(w, "This name doesn’t belong to Red Locket.", http.StatusMisdirectedRequest)
		}
	})
}

func headers(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		h := w.Header()
		h.Set(
			"Content-Security-Policy",
			"default-src 'none'; script-src 'self'; style-src 'self'; img-src 'self'; font-src 'self'; connect-src "+
				"'self'; worker-src 'self'; form-action 'self'; base-uri 'none'; frame-ancestors 'none'",
		)
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

// opened returns the vault that this browser session has open, if the request carries both of
// the session's halves.
func (s *Server) opened(r *http.Request) (*app.Vault, bool) {
	if !s.hasOriginKey(r) {
		return nil, false
	}
	v, ok := s.device.Vault(s.sessions.GetString(r.Context(), sessionProfile))
	if !ok || v.Instance() != s.sessions.GetString(r.Context(), sessionOpening) {
		return nil, false
	}
	return v, true
}

func (s *Server) needOpen(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		v, ok := s.opened(r)
		if !ok {
			s.toLock(w, r)
			return
		}
		// What pages do by themselves is no use of the vault.
		if r.Header.Get("X-By-Itself") == "" && r.URL.Path != "/events" && r.URL.Path != "/status" &&
			r.URL.Path != "/left" {
			v.Touch()
		}
		ctx := context.WithValue(r.Context(), versionKey{}, v.Version())
		next.ServeHTTP(w, r.WithContext(context.WithValue(ctx, vaultKey{}, v)))
	})
}

// needSheet leads back to the first recovery sheet, which has yet to be checked, unless it was left for later.
func (s *Server) needSheet(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		v, ctx := vaultOf(r), r.Context()
		if v.Sheets.Waits(ctx) && !v.Sheets.Replaces(ctx) && !v.Account.FirstDay(ctx).HasLeft(app.FirstSheet) {
			redirect(w, r, "/sheet")
			return
		}
		next.ServeHTTP(w, r)
	})
}

func vaultOf(r *http.Request) *app.Vault { return r.Context().Value(vaultKey{}).(*app.Vault) }
