-- Accounts are known by public keys, and each device by a key of its own. Of an account of the first format nothing is
-- kept that a signature could be checked with: it can't be signed in to any more, and its devices make a new one.
DELETE FROM chunks;
DELETE FROM records;
DELETE FROM heads;
DELETE FROM introductions;
DELETE FROM accounts;
DROP TABLE sessions;

CREATE TABLE sessions (
  account TEXT NOT NULL,
  device  TEXT NOT NULL,
  public  BLOB NOT NULL, -- the device's key, Ed25519
  created INTEGER NOT NULL,
  seen    INTEGER NOT NULL,
  PRIMARY KEY (account, device)
) STRICT, WITHOUT ROWID;

-- What was signed lately: nothing counts twice.
CREATE TABLE nonces (
  account TEXT NOT NULL,
  device  TEXT NOT NULL,
  nonce   TEXT NOT NULL,
  at      INTEGER NOT NULL, -- milliseconds since 1970
  PRIMARY KEY (account, device, nonce)
) STRICT, WITHOUT ROWID;
CREATE INDEX nonces_by_time ON nonces (at);
