ALTER TABLE accounts ADD COLUMN epoch INTEGER NOT NULL DEFAULT 1;
ALTER TABLE accounts ADD COLUMN statement BLOB; -- that began the epoch, as JSON
