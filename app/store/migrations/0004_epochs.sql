ALTER TABLE stand ADD COLUMN epoch INTEGER NOT NULL DEFAULT 1; -- the newest one that was known at that head
