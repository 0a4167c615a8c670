CREATE TABLE meta (key TEXT PRIMARY KEY, value BLOB NOT NULL) STRICT;

CREATE TABLE accounts (
  account          TEXT PRIMARY KEY,
  email            TEXT NOT NULL UNIQUE,
  vault            TEXT NOT NULL,
  params           TEXT NOT NULL,
  sign_in          BLOB NOT NULL, -- HMAC of the sign-in key
  recovery_sign_in BLOB NOT NULL,
  wrapped          BLOB NOT NULL,
  recovery_wrapped BLOB NOT NULL,
  head             INTEGER NOT NULL DEFAULT 0,
  head_hash        TEXT NOT NULL DEFAULT '',
  created          INTEGER NOT NULL
) STRICT;

CREATE TABLE sessions (
  account TEXT NOT NULL,
  device  TEXT NOT NULL,
  token   BLOB NOT NULL, -- SHA-256 of the token's secret part
  created INTEGER NOT NULL,
  seen    INTEGER NOT NULL,
  PRIMARY KEY (account, device)
) STRICT, WITHOUT ROWID;

CREATE TABLE heads (
  account TEXT NOT NULL,
  number  INTEGER NOT NULL,
  blob    BLOB NOT NULL,
  PRIMARY KEY (account, number)
) STRICT, WITHOUT ROWID;

CREATE TABLE records (
  account TEXT NOT NULL,
  record  TEXT NOT NULL,
  rev     INTEGER NOT NULL,
  head    INTEGER NOT NULL,
  blob    BLOB NOT NULL,
  PRIMARY KEY (account, record)
) STRICT;
CREATE INDEX records_by_head ON records (account, head);

CREATE TABLE introductions (
  account    TEXT NOT NULL, -- empty where the address has no account
  id         TEXT NOT NULL,
  secret     BLOB NOT NULL, -- SHA-256
  public_key BLOB NOT NULL,
  sealed     BLOB,
  created    INTEGER NOT NULL,
  PRIMARY KEY (account, id)
) STRICT;
