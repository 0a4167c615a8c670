CREATE TABLE card (one INTEGER PRIMARY KEY CHECK (one = 1), card TEXT NOT NULL) STRICT;

CREATE TABLE stand (
  one        INTEGER PRIMARY KEY CHECK (one = 1),
  number     INTEGER NOT NULL,
  head       BLOB NOT NULL,
  floor      INTEGER NOT NULL,
  floor_hash BLOB NOT NULL
) STRICT;

CREATE TABLE records (
  id        TEXT PRIMARY KEY,
  rev       INTEGER NOT NULL,
  blob      BLOB NOT NULL,
  base_rev  INTEGER NOT NULL,
  base_hash BLOB NOT NULL
) STRICT;

CREATE TABLE local (name TEXT PRIMARY KEY, sealed BLOB NOT NULL) STRICT;
