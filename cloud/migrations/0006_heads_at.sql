ALTER TABLE heads ADD COLUMN at INTEGER NOT NULL DEFAULT 0; -- when it came, milliseconds since 1970
UPDATE heads SET at = CAST(strftime('%s', 'now') AS INTEGER) * 1000;
