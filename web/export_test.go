package web

import (
	"net/http"

	"github.com/go-chi/chi/v5"
)

// Pages lists the routes that a browser may open by address.
func (s *Server) Pages() (out []string) {
	mux, ok := s.Handler.(chi.Routes)
	if !ok {
		return nil
	}
	_ = chi.Walk(mux, func(method, route string, _ http.Handler, _ ...func(http.Handler) http.Handler) error {
		if method == http.MethodGet {
			out = append(out, route)
		}
		return nil
	})
	return out
}

// PageStyles returns the style sheets of all pages.
func PageStyles() (out []string) {
	for _, name := range pageStyles {
		b, err := staticFiles.ReadFile("static/" + name)
		if err != nil {
			panic(err)
		}
		out = append(out, string(b))
	}
	return out
}
