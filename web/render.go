package web

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"html/template"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/dustin/go-humanize"

	"redlocket/app"
	"redlocket/app/helping"
	"redlocket/app/records"
	"redlocket/core/audit"
	"redlocket/core/find"
	"redlocket/core/secret"
	"redlocket/core/share"
	"redlocket/core/site"
	"redlocket/core/transfer"
	"redlocket/core/vault"
	"redlocket/core/version"
	"redlocket/wording"
)

// View is what every template gets.
type View struct {
	Title   string
	Section string       // "logins", "devices"; empty on pages in front of a vault
	Profile *app.Profile // of the open vault, if one is
	Vault   *app.Vault
	Version int64 // of the vault, read before anything that is drawn of it
	Calm    bool  // nothing on the page needs htmx at once: it is read once the page is shown
	Host    string
	Set     app.Settings
	Said    *doneData         // what was done just before this page
	Made    secret.Text       // a master password that was drawn, to be taken or not
	NewName string            // what a new one is called in a form; empty for a master password
	Second  bool              // the vault has a second passphrase, and this isn't it
	Bad     map[string]string // what is wrong, by field
	Data    any
}

// Opening names the opening of the vault that a page was drawn in, and opens nothing.
func (v View) Opening() string { return openingOf(v.Vault) }

func openingOf(v *app.Vault) string {
	sum := sha256.Sum256([]byte(v.Instance()))
	return hex.EncodeToString(sum[:8])
}

func (s *Server) funcs() template.FuncMap {
	return template.FuncMap{
		"static":        func(name string) string { return "/static/" + s.static + "/" + name },
		"medallion":     func(seed []byte) template.HTML { return s.medallions.of(seed, true) },
		"engraving":     func(seed []byte) template.HTML { return s.medallions.of(seed, false) },
		"engravedAgain": func() template.HTML { return engravedAgain },
		"mark":          mark,
		"chain":         chain,
		"shown":         site.Shown,
		"domain":        site.Domain,
		"ago":           ago,
		"pieces":        pieces,
		"softly":        softly,
		"words":         func(err error) string { return wording.Error(err) },
		"plural64":      func(n int64, one, many string) string { return plural(int(n), one, many) },
		"class":         func(l audit.Link) string { return linkClasses[l] },
		"linkName":      func(l audit.Link) string { return wording.Link(audit.Fallen{Why: l}) },
		"filed":         filed,
		"rights":        share.Rights,
		"whichBook":     func(l []records.NamedBook, at, id string) whichBook { return whichBook{l, at, id} },
		"chunk":         func(v View, c chunk) chunkView { return chunkView{v, c} },
		"field":         func(v View, row fieldRow) fieldView { return fieldView{v, row} },
		"formField": func(v View, k vault.Kind, spec vault.Spec) specView {
			return specView{v, spec, wording.Hint(k.Type, spec.Field)}
		},
		"code":          func(v View, c *codeData) View { v.Data = *c; return v },
		"base64":        base64.RawURLEncoding.EncodeToString,
		"errorWords":    errorWords,
		"admission":     func(v View, d admissionData) admissionView { return admissionView{v, d} },
		"askPlatform":   func(v View, back string) askPlatform { return askPlatform{v, back} },
		"passwordAgain": func(v View, field string) passwordAgain { return passwordAgain{v, field} },
		"tailed":        func(d slotData, tail, brand string) slotData { d.Tail, d.Brand = tail, brand; return d },
		"string":        func(s any) string { return fmt.Sprint(s) },
		"oneLine":       func(s string) string { return strings.ReplaceAll(s, "\n", ", ") },
		"telephone":     telephone,
		"size":          size,
		"size64":        func(n int) string { return size(int64(n)) },
		"meanings":      transfer.Meanings,
		"meaning":       wording.Meaning,
		"kindWord":      func(t vault.Type) string { return wording.Kind(t).One },
		"remove": func(v View, label, said string) removeView {
			return removeView{v.Data.(householdData).At.ID, label, said}
		},
		"kind":     func(k vault.Kind) string { return wording.Kind(k.Type).One },
		"lasts":    wording.Lasts,
		"weakness": wording.Weakness,
		"trouble":  wording.Query,
		"gains":    gains,
		"pickVals": func(key string, pick int) string {
			b, _ := json.Marshal(map[string]any{"key": key, "pick": pick}) // of a text and a number
			return string(b)
		},
		"shownAs":   shownAs,
		"ownForms":  func() []choice { return ownForms },
		"sentence":  sentence,
		"version":   version.String,
		"dated":     transfer.Dated,
		"join":      strings.Join,
		"first":     func(s string) string { f, _, _ := strings.Cut(s, " "); return f },
		"seconds":   func(d time.Duration) int { return int(d.Seconds()) },
		"firstMark": markOf,
		"inc":       func(n int) int { return n + 1 },
		"waitingBrowser": func(v View, b app.Browser, first string) waitingBrowser {
			return waitingBrowser{v, b, first != ""}
		},
		"plural":   plural,
		"moment":   time.UnixMilli,
		"seeks":    func() bool { _, ok, err := s.device.Seeking(context.Background()); return ok && err == nil },
		"heldHand": func(v View, h helping.Held) heldView { return heldView{v, h} },
	}
}

func plural(n int, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return humanize.Comma(int64(n)) + " " + many
}

// What a named block needs beside the page's view.
type (
	chunkView struct {
		View
		Chunk chunk
	}
	fieldView struct {
		View
		Row fieldRow
	}
	removeView struct{ ID, Label, Said string }
	heldView   struct {
		View View
		Item helping.Held
	}
	admissionView struct {
		View
		admissionData
	}
	askPlatform struct {
		View
		Back string
	}
	passwordAgain struct {
		View
		Field string
	}
	specView struct {
		View
		Spec vault.Spec
		Hint string
	}
)

var ownForms = []choice{
	{string(vault.FormText), "text"},
	{string(vault.FormHidden), "hidden"},
	{string(vault.FormDate), "date"},
	{string(vault.FormYesNo), "yes or no"},
	{string(vault.FormAddress), "address"},
}

// gains lists the fields that an item gets from a file.
func gains(list []transfer.Gain) string {
	var out []string
	for _, g := range list {
		if name := wording.Gain(g); !slices.Contains(out, name) {
			out = append(out, name)
		}
	}
	return strings.Join(out, ", ")
}

// telephone writes a number as a tel address takes it (RFC 3966).
func telephone(s string) string {
	return strings.Map(func(r rune) rune {
		if r >= '0' && r <= '9' || r == '+' {
			return r
		}
		return -1
	}, s)
}

// pieces sets a text with what the query found in it marked.
func pieces(q find.Query, text string) template.HTML {
	if len(q.Words) == 0 {
		return template.HTML(template.HTMLEscapeString(text)) //nolint:gosec // escaped
	}
	var b strings.Builder
	for _, p := range q.Pieces(text) {
		if p.Hit {
			b.WriteString("<mark>" + template.HTMLEscapeString(p.Text) + "</mark>")
		} else {
			b.WriteString(template.HTMLEscapeString(p.Text))
		}
	}
	return template.HTML(b.String()) //nolint:gosec // escaped
}

// softly lets a user name or an address break where its parts begin.
func softly(text string) template.HTML {
	b := template.HTMLEscapeString(text)
	return template.HTML(strings.ReplaceAll(b, "@", "<wbr>@")) //nolint:gosec // escaped
}

func ago(t time.Time) string {
	switch d := time.Since(t); {
	case t.IsZero():
		return "never"
	case d < 10*time.Second:
		return "just now"
	case d < time.Minute:
		return "less than a minute ago"
	}
	return humanize.Time(t)
}

func (s *Server) view(r *http.Request, title, section string, data any) View {
	out := View{Title: title, Section: section, Data: data, Host: r.Host, Bad: map[string]string{}}
	if v, ok := s.opened(r); ok {
		card := v.Profile()
		out.Profile, out.Vault, out.Version, out.Set = &card, v, drawnAt(r, v), v.Settings.Get()
		out.Second = v.Second.Has()
		if r.Header.Get("HX-Request") == "" && r.Header.Get("Sec-Fetch-Dest") != "empty" {
			if said := s.sessions.PopString(r.Context(), sessionSaid); said != "" {
				out.Said = &doneData{said, s.sessions.PopString(r.Context(), sessionUndo)}
			}
		}
	}
	return out
}

// render writes the named template whole or not at all.
func (s *Server) render(w http.ResponseWriter, r *http.Request, status int, name string, v View) {
	var b bytes.Buffer
	if err := s.pages.ExecuteTemplate(&b, name, v); err != nil {
		s.cfg.Log.ErrorContext(r.Context(), "failed to render", "template", name, "err", err)
		http.Error(w, "This page can’t be shown.", http.StatusInternalServerError)
		return
	}
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	w.WriteHeader(status)
	_, _ = b.WriteTo(w)
}

// fragment reports whether htmx asks for the part of the page with the given id.
func fragment(r *http.Request, target string) bool {
	return r.Header.Get("HX-Request") != "" && r.Header.Get("HX-Target") == target
}

// bad notes an input error on a view, and reports whether it was one.
func (v *View) bad(err error) bool {
	var in *records.InputError
	if !errors.As(err, &in) {
		return false
	}
	v.Bad[in.Field] = errorWords(in)
	return true
}

// refused puts what an act failed with on a page, beside the field that it is about or else at a place of the page's,
// and returns the status of that page; nil is no failure.
func (v *View) refused(err error, place string) (status int) {
	if err == nil {
		return http.StatusOK
	}
	if !v.bad(err) {
		v.Bad[place] = errorWords(err)
	}
	return http.StatusUnprocessableEntity
}

type versionKey struct{}

// drawnAt is the vault's version when the request came in.
func drawnAt(r *http.Request, v *app.Vault) int64 {
	if n, ok := r.Context().Value(versionKey{}).(int64); ok {
		return n
	}
	return v.Version()
}
