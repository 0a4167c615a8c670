package web

import (
	"crypto/rand"
	"crypto/subtle"
	"net/http"

	"redlocket/app"
)

// A session has two halves. The cookie names it, but browsers send cookies to whoever listens
// at any port of a host name (RFC 6265, section 8.5). So an open vault is shown only to
// requests that carry the session's origin key as well: it is kept by the browser as an HTTP
// credential (RFC 7617), whose protection space is the origin, port included (RFC 9110,
// section 11.5). It leaves the app once, in the answer to the master password, in a page whose
// script hands it to the browser.

// The credential's user name, and the realm of its protection space.
const (
	originUser  = "origin-key"
	originRealm = `Basic realm="` + originUser + `", charset="UTF-8"`
)

// enter makes the session one that has v open, and shows the page that hands its origin key to
// the browser and leads on to the given address.
func (s *Server) enter(w http.ResponseWriter, r *http.Request, v *app.Vault, to string) error {
	if err := s.sessions.RenewToken(r.Context()); err != nil {
		return err
	}
	key := rand.Text()
	s.sessions.Put(r.Context(), sessionProfile, v.Profile().ID)
	s.sessions.Put(r.Context(), sessionOpening, v.Instance())
	s.sessions.Put(r.Context(), sessionOrigin, key)
	page := View{Title: v.Profile().Name, Set: v.Settings.Get(), Data: enteredData{originUser, key, to}}
	s.render(w, r, http.StatusOK, "entered", page)
	return nil
}

type enteredData struct{ User, Key, To string }

// hasOriginKey reports whether a request carries its session's origin key.
func (s *Server) hasOriginKey(r *http.Request) bool {
	want := s.sessions.GetString(r.Context(), sessionOrigin)
	_, got, _ := r.BasicAuth()
	return want != "" && subtle.ConstantTimeCompare([]byte(got), []byte(want)) == 1
}

// originKey takes the key from the page's script: browsers keep a credential that was asked for
// and found right. A wrong one is not asked for again, or the browser would ask its user.
func (s *Server) originKey(w http.ResponseWriter, r *http.Request) error {
	switch {
	case s.hasOriginKey(r):
		w.WriteHeader(http.StatusNoContent)
	case r.Header.Get("Authorization") == "" && s.sessions.GetString(r.Context(), sessionOrigin) != "" &&
		(r.Header.Get("Sec-Fetch-Dest") == "empty" || r.Header.Get("Sec-Fetch-Dest") == ""):
		w.Header().Set("WWW-Authenticate", originRealm)
		w.WriteHeader(http.StatusUnauthorized)
	default:
		w.WriteHeader(http.StatusForbidden)
	}
	return nil
}
