-- Keys by which a device may have new credentials set after a wait, and those that wait: both end with its session.
ALTER TABLE sessions ADD COLUMN late_keys TEXT NOT NULL DEFAULT '[]'; -- public, Ed25519, base64 in JSON
ALTER TABLE sessions ADD COLUMN late TEXT NOT NULL DEFAULT ''; -- credentials that wait, in JSON; empty for none
ALTER TABLE sessions ADD COLUMN late_due INTEGER NOT NULL DEFAULT 0; -- milliseconds since 1970
