CREATE TABLE chunks (
  account TEXT NOT NULL,
  file    TEXT NOT NULL,
  n       INTEGER NOT NULL,
  size    INTEGER NOT NULL,
  blob    BLOB NOT NULL,
  PRIMARY KEY (account, file, n)
) STRICT;
CREATE INDEX chunks_by_size ON chunks (account, size);
