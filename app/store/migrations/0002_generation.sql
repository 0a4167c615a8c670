-- +goose Up
CREATE TABLE generation (one INTEGER PRIMARY KEY CHECK (one = 1), n INTEGER NOT NULL) STRICT;
INSERT INTO generation (one, n) VALUES (1, 1);
