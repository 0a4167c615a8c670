ALTER TABLE stand ADD COLUMN at INTEGER NOT NULL DEFAULT 0; -- when it was verified, milliseconds since 1970
