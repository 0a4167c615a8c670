package store

import (
	"context"
	"database/sql"
	"errors"

	"redlocket/app/records"
)

// PutChunk writes one sealed chunk of a file.
func (s *Store) PutChunk(ctx context.Context, file string, n int, sealed []byte) error {
	_, err := s.db.ExecContext(
		ctx,
		`INSERT INTO chunks (file, n, sealed) VALUES (?, ?, ?) ON CONFLICT (file, n) DO UPDATE SET sealed =
			excluded.sealed`,
		file,
		n,
		sealed,
	)
	return err
}

// Chunk reads one; nil if it isn't here.
func (s *Store) Chunk(ctx context.Context, file string, n int) (b []byte, err error) {
	err = s.db.GetContext(ctx, &b, `SELECT sealed FROM chunks WHERE file = ? AND n = ?`, file, n)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	return b, err
}

// FinishFile notes that all chunks of a file are here, and whether the cloud has them.
func (s *Store) FinishFile(ctx context.Context, f records.StoredFile) error {
	_, err := s.db.ExecContext(
		ctx,
		`INSERT INTO files (id, chunks, sent) VALUES (?, ?, ?) ON CONFLICT (id) DO UPDATE SET chunks =
			excluded.chunks, sent = excluded.sent`,
		f.ID,
		f.Chunks,
		f.Sent,
	)
	return err
}

// StoredFiles lists the files of which there are chunks.
func (s *Store) StoredFiles(ctx context.Context) (out []records.StoredFile, err error) {
	rows, err := s.db.QueryContext(ctx, `SELECT id, chunks, 1, sent FROM files
		UNION ALL SELECT DISTINCT file, 0, 0, 0 FROM chunks WHERE file NOT IN (SELECT id FROM files)`)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var f records.StoredFile
		if err := rows.Scan(&f.ID, &f.Chunks, &f.Whole, &f.Sent); err != nil {
			return nil, err
		}
		out = append(out, f)
	}
	return out, rows.Err()
}

// RemoveFile removes all of a file.
func (s *Store) RemoveFile(ctx context.Context, file string) error {
	tx, err := s.db.BeginTxx(ctx, nil)
	if err != nil {
		return err
	}
	defer func() { _ = tx.Rollback() }()
	for _, q := range []string{`DELETE FROM chunks WHERE file = ?`, `DELETE FROM files WHERE id = ?`} {
		if _, err := tx.ExecContext(ctx, q, file); err != nil {
			return err
		}
	}
	return tx.Commit()
}
