package web

import (
	"bytes"
	"errors"
	"io"
	"mime"
	"net/http"
	"strconv"
	"strings"
	"unicode/utf8"

	"github.com/dustin/go-humanize"
	"github.com/go-chi/chi/v5"

	"redlocket/app/gate"
	"redlocket/app/records"
	"redlocket/core/vault"
)

// filePages are the files attached to items.
type filePages struct{ *Server }

func (s filePages) routes(r routes) {
	r.get("/items/{id}/files/{file}", s.file)
	r.get("/items/{id}/files/{file}/preview", s.preview)
	r.post("/items/{id}/files/{file}/detach", s.detach)
}

// attach takes files as they come in, without keeping any of them in memory or on
// disk in clear. A request that is cut off leaves nothing of its last file.
func (s *Server) attach(w http.ResponseWriter, r *http.Request) error {
	id := chi.URLParam(r, "id")
	r.Body = http.MaxBytesReader(w, r.Body, vault.MaxFiles*(vault.MaxFile+1<<20))
	parts, err := r.MultipartReader()
	if err != nil {
		return problem(http.StatusBadRequest, "That wasn’t a file", "Choose a file, or drop one on the sheet.")
	}
	n := 0
	for {
		part, err := parts.NextPart()
		if err == io.EOF {
			break
		}
		if err == nil && part.FileName() != "" {
			_, err = vaultOf(r).Files.Attach(r.Context(), id, part.FileName(), part)
			n++
		}
		if err != nil {
			if errors.Is(err, gate.ErrLocked) || errors.Is(err, records.ErrNoItem) {
				return err
			}
			return problem(http.StatusUnprocessableEntity, "The file wasn’t attached", errorWords(err))
		}
	}
	words := plural(n, "file attached.", "files attached.")
	if r.Header.Get("HX-Request") == "" {
		return s.acted(w, r, nil, words, "/items/"+id)
	}
	s.render(w, r, http.StatusOK, "done", s.view(r, "", "", doneData{words, vaultOf(r).Acts.Last()}))
	return nil
}

func (s filePages) detach(w http.ResponseWriter, r *http.Request) error {
	id := chi.URLParam(r, "id")
	err := vaultOf(r).Files.Detach(r.Context(), id, chi.URLParam(r, "file"))
	return s.acted(w, r, err, "The file was taken off. The history of the item still has it.", "/items/"+id)
}

// shown reports whether a file's media type is one that is shown in the page: of
// pictures those that can't hold script, and plain text.
func shownAs(f vault.File) string {
	switch f.Type {
	case "image/png", "image/jpeg", "image/gif", "image/webp", "image/bmp":
		return "picture"
	}
	if strings.HasPrefix(f.Type, "text/plain") {
		return "text"
	}
	return ""
}

// file sends a file: to be saved, or as the picture of a page.
func (s filePages) file(w http.ResponseWriter, r *http.Request) error {
	f, err := vaultOf(r).Files.Get(chi.URLParam(r, "id"), chi.URLParam(r, "file"))
	if errors.Is(err, records.ErrNoFile) {
		return problem(http.StatusNotFound, "This file isn’t here", "It may have been taken off on another device.")
	}
	if err != nil {
		return err
	}
	out := &lateWriter{w: w, head: func() {
		h := w.Header()
		h.Set("Content-Security-Policy", "sandbox; default-src 'none'")
		h.Set("Content-Length", strconv.FormatInt(f.Size, 10))
		if r.FormValue("shown") != "" && shownAs(f) == "picture" {
			h.Set("Content-Type", f.Type)
			return
		}
		h.Set("Content-Type", "application/octet-stream")
		h.Set("Content-Disposition", mime.FormatMediaType("attachment", map[string]string{"filename": f.Name}))
	}}
	if err := vaultOf(r).Files.Read(r.Context(), f, out); err != nil {
		if !out.begun {
			return problem(http.StatusBadGateway, "The file can’t be read now", errorWords(err))
		}
		panic(http.ErrAbortHandler) // the browser must not take a part for the whole
	}
	out.begin()
	return nil
}

// lateWriter writes its head with the first bytes, so that an error before them
// can still be answered as one.
type lateWriter struct {
	w     http.ResponseWriter
	head  func()
	begun bool
}

func (l *lateWriter) begin() {
	if !l.begun {
		l.begun = true
		l.head()
	}
}

func (l *lateWriter) Write(b []byte) (int, error) {
	l.begin()
	return l.w.Write(b)
}

// previewBytes is how much of a text is shown.
const previewBytes = 64 << 10

type previewData struct {
	Text string
	Cut  bool
	Name string
	Src  string
}

func (s filePages) preview(w http.ResponseWriter, r *http.Request) error {
	id := chi.URLParam(r, "id")
	f, err := vaultOf(r).Files.Get(id, chi.URLParam(r, "file"))
	if err != nil {
		return err
	}
	d := previewData{Name: f.Name, Src: "/items/" + id + "/files/" + f.ID + "?shown=1"}
	if shownAs(f) == "text" {
		var b limitedBuffer
		if err := vaultOf(r).Files.Read(r.Context(), f, &b); err != nil && !errors.Is(err, errEnough) {
			return err
		}
		text := b.Bytes()
		for !utf8.Valid(text) && len(text) > 0 && len(text) > b.Len()-4 {
			text = text[:len(text)-1] // a letter that was cut
		}
		d.Src, d.Text, d.Cut = "", strings.ToValidUTF8(string(text), "�"), f.Size > previewBytes
	}
	s.render(w, r, http.StatusOK, "preview", s.view(r, "", "", d))
	return nil
}

var errEnough = errors.New("that is enough for a preview")

// limitedBuffer takes as much as a preview shows.
type limitedBuffer struct{ bytes.Buffer }

func (b *limitedBuffer) Write(p []byte) (int, error) {
	if room := previewBytes - b.Len(); len(p) > room {
		_, _ = b.Buffer.Write(p[:room])
		return room, errEnough
	}
	return b.Buffer.Write(p)
}

func size(n int64) string { return humanize.IBytes(uint64(n)) }
