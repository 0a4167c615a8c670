-- Codes that were mailed, one for each address and purpose.
CREATE TABLE proofs (
  email   TEXT NOT NULL,
  purpose TEXT NOT NULL,
  code    TEXT NOT NULL, -- HMAC; empty once it is used up
  tries   INTEGER NOT NULL DEFAULT 0,
  at      INTEGER NOT NULL, -- milliseconds since 1970, of the code
  mails   INTEGER NOT NULL DEFAULT 0, -- since
  since   INTEGER NOT NULL,
  PRIMARY KEY (email, purpose)
) STRICT, WITHOUT ROWID;

CREATE TABLE invitations (
  code  TEXT PRIMARY KEY, -- HMAC
  until INTEGER NOT NULL
) STRICT, WITHOUT ROWID;

-- What opened an account before it was replaced.
CREATE TABLE formers (
  account          TEXT NOT NULL,
  at               INTEGER NOT NULL, -- when it was replaced
  params           TEXT NOT NULL,
  sign_in          BLOB NOT NULL,
  recovery_sign_in BLOB NOT NULL,
  wrapped          BLOB NOT NULL,
  recovery_wrapped BLOB NOT NULL,
  epoch            INTEGER NOT NULL,
  statement        BLOB
) STRICT;
CREATE INDEX formers_by_account ON formers (account, at);
