CREATE TABLE files (
  id     TEXT PRIMARY KEY,
  chunks INTEGER NOT NULL,
  sent   INTEGER NOT NULL
) STRICT;

-- A chunk whose file isn't in files belongs to one that was cut off.
CREATE TABLE chunks (
  file   TEXT NOT NULL,
  n      INTEGER NOT NULL,
  sealed BLOB NOT NULL,
  PRIMARY KEY (file, n)
) STRICT;
