-- What people send each other. It is found by the receiver's address: that may have no account yet.
CREATE TABLE letters (
  address TEXT NOT NULL, -- of the receiver
  id      TEXT NOT NULL,
  account TEXT NOT NULL, -- of the sender
  kind    TEXT NOT NULL,
  body    BLOB NOT NULL,
  at      INTEGER NOT NULL, -- milliseconds since 1970
  PRIMARY KEY (address, id)
) STRICT;
CREATE INDEX letters_by_sender ON letters (account);
CREATE INDEX letters_by_time ON letters (at);

-- Accounts whose owners want no mail when a letter waits.
CREATE TABLE no_letter_mail (account TEXT PRIMARY KEY) STRICT, WITHOUT ROWID;
