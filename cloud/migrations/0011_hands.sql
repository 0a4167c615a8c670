-- Helping hands: what is sealed for the owner of an account, and who holds a part of what opens it.
CREATE TABLE hands (
  account TEXT PRIMARY KEY,
  hand    TEXT NOT NULL UNIQUE,
  need    INTEGER NOT NULL,
  wait    INTEGER NOT NULL, -- milliseconds
  sealed  BLOB NOT NULL
) STRICT, WITHOUT ROWID;

CREATE TABLE helpers (
  account TEXT NOT NULL, -- that is helped
  address TEXT NOT NULL, -- of who helps
  part    BLOB NOT NULL, -- sealed to them; empty once they hold it
  PRIMARY KEY (account, address)
) STRICT, WITHOUT ROWID;
CREATE INDEX helpers_by_address ON helpers (address);

CREATE TABLE help_asked (
  account    TEXT NOT NULL, -- that is helped
  id         TEXT NOT NULL,
  public_key BLOB NOT NULL,
  at         INTEGER NOT NULL, -- milliseconds since 1970
  due        INTEGER NOT NULL DEFAULT 0,
  stopped    INTEGER NOT NULL DEFAULT 0,
  PRIMARY KEY (account, id)
) STRICT, WITHOUT ROWID;
CREATE INDEX help_asked_by_time ON help_asked (at);

CREATE TABLE help (
  account TEXT NOT NULL,
  id      TEXT NOT NULL,
  address TEXT NOT NULL, -- of who helps
  sealed  BLOB NOT NULL, -- empty while it waits
  PRIMARY KEY (account, id, address)
) STRICT, WITHOUT ROWID;
