-- Sets that several people hold. The heads and records of an epoch stand among those of accounts, under the name of its
-- chain: "set/EPOCH". Members are found by address, as with letters.
CREATE TABLE sets (
  id        TEXT PRIMARY KEY,
  account   TEXT NOT NULL, -- that began it
  epoch     INTEGER NOT NULL,
  head      INTEGER NOT NULL DEFAULT 0,
  head_hash TEXT NOT NULL DEFAULT ''
) STRICT, WITHOUT ROWID;
CREATE INDEX sets_by_account ON sets (account);

CREATE TABLE members (
  address TEXT NOT NULL,
  id      TEXT NOT NULL,
  change  INTEGER NOT NULL,
  manage  INTEGER NOT NULL,
  PRIMARY KEY (address, id)
) STRICT, WITHOUT ROWID;
CREATE INDEX members_by_set ON members (id);

CREATE TABLE boxes (
  address TEXT NOT NULL,
  id      TEXT NOT NULL, -- of the set
  epoch   INTEGER NOT NULL,
  box     TEXT NOT NULL,
  kind    TEXT NOT NULL,
  sealed  BLOB NOT NULL,
  at      INTEGER NOT NULL, -- milliseconds since 1970
  PRIMARY KEY (address, id, epoch, box)
) STRICT, WITHOUT ROWID;
