package cloud

import (
	"context"
	"database/sql"
	"errors"
	"io"
	"net/http"
	"strconv"

	"github.com/go-chi/chi/v5"
	"github.com/google/uuid"
	"github.com/jmoiron/sqlx"

	"redlocket/core/wire"
)

var (
	errNoChunk = errors.New("no such chunk")
	errFull    = errors.New("no room left")
)

// chunkOf reads which chunk a request names; it answers itself if that is none.
func chunkOf(w http.ResponseWriter, r *http.Request) (file string, n int, ok bool) {
	file = chi.URLParam(r, "file")
	n, err := strconv.Atoi(chi.URLParam(r, "n"))
	if err != nil || n < 0 || n >= wire.MaxChunks || uuid.Validate(file) != nil {
		fail(w, http.StatusBadRequest, wire.CodeBadRequest, "there is no such chunk")
		return "", 0, false
	}
	return file, n, true
}

// files lists the files of which there are chunks.
func (s *Server) files(w http.ResponseWriter, r *http.Request) {
	list := []wire.StoredFile{}
	rows, err := s.store.db.QueryxContext(r.Context(),
		`SELECT file, count(*) FROM chunks WHERE account = ? GROUP BY file`, of(r).account)
	if err != nil {
		s.trouble(w, r, err)
		return
	}
	defer rows.Close()
	for rows.Next() {
		var f wire.StoredFile
		if err := rows.Scan(&f.ID, &f.Chunks); err != nil {
			s.trouble(w, r, err)
			return
		}
		list = append(list, f)
	}
	if err := rows.Err(); err != nil {
		s.trouble(w, r, err)
		return
	}
	reply(w, list)
}

func (s *Server) putChunk(w http.ResponseWriter, r *http.Request) {
	file, n, ok := chunkOf(w, r)
	if !ok {
		return
	}
	blob, err := io.ReadAll(http.MaxBytesReader(w, r.Body, wire.MaxChunk))
	if err != nil || len(blob) == 0 {
		fail(w, http.StatusRequestEntityTooLarge, wire.CodeBadRequest, "the chunk is empty, cut short or too large")
		return
	}
	whose, err := s.chunksOf(r, mayChange)
	if err != nil {
		s.setDone(w, r, err)
		return
	}
	err = s.store.putChunk(r.Context(), whose, file, n, blob)
	if errors.Is(err, errFull) {
		fail(w, http.StatusInsufficientStorage, wire.CodeFull, "there is no room left for files")
		return
	}
	s.done(w, r, err)
}

func (s *Server) chunk(w http.ResponseWriter, r *http.Request) {
	file, n, ok := chunkOf(w, r)
	if !ok {
		return
	}
	whose, err := s.chunksOf(r, mayRead)
	if err != nil {
		s.setDone(w, r, err)
		return
	}
	blob, err := s.store.chunk(r.Context(), whose, file, n)
	switch {
	case errors.Is(err, errNoChunk):
		fail(w, http.StatusNotFound, wire.CodeNoChunk, "this chunk isn't here")
	case err != nil:
		s.trouble(w, r, err)
	default:
		w.Header().Set("Content-Type", "application/octet-stream")
		_, _ = w.Write(blob)
	}
}

func (s *Server) removeFile(w http.ResponseWriter, r *http.Request) {
	s.done(w, r, s.store.removeFile(r.Context(), of(r).account, chi.URLParam(r, "file")))
}

// chunksOf says whose chunks a request is about: the account's, or an epoch's of a shared set.
func (s *Server) chunksOf(r *http.Request, right string) (whose string, err error) {
	if chi.URLParam(r, "set") == "" {
		return of(r).account, nil
	}
	set, epoch, err := parseEpoch(r)
	if err != nil {
		return "", err
	}
	return chainOf(set, epoch), s.store.tx(r.Context(), func(tx *sqlx.Tx) error {
		now, err := may(r.Context(), tx, of(r).account, set, right)
		if err == nil && now != epoch {
			err = errConflict
		}
		return err
	})
}

func (s *store) putChunk(ctx context.Context, account, file string, n int, blob []byte) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		return s.within(ctx, tx, account, func() error {
			_, err := tx.ExecContext(ctx, `INSERT INTO chunks (account, file, n, size, blob) VALUES (?, ?, ?, ?, ?)
				ON CONFLICT (account, file, n) DO UPDATE SET size = excluded.size, blob = excluded.blob`, account,
				file, n, len(blob), blob)
			return err
		})
	})
}

func (s *store) chunk(ctx context.Context, account, file string, n int) (b []byte, err error) {
	err = s.db.GetContext(ctx, &b, `SELECT blob FROM chunks WHERE account = ? AND file = ? AND n = ?`, account, file, n)
	if errors.Is(err, sql.ErrNoRows) {
		err = errNoChunk
	}
	return b, err
}

func (s *store) removeFile(ctx context.Context, account, file string) error {
	_, err := s.db.ExecContext(ctx, `DELETE FROM chunks WHERE account = ? AND file = ?`, account, file)
	return err
}
