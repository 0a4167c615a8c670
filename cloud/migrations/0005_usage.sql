-- What each account takes, kept by the database itself: nothing has to add it up, and no race gets past it.
CREATE TABLE usage (
  account TEXT PRIMARY KEY,
  records INTEGER NOT NULL DEFAULT 0,
  bytes   INTEGER NOT NULL DEFAULT 0, -- of sealed records and heads
  files   INTEGER NOT NULL DEFAULT 0  -- bytes of sealed chunks
) STRICT, WITHOUT ROWID;

INSERT INTO usage (account) SELECT account FROM accounts;
UPDATE usage SET
  records = (SELECT count(*) FROM records r WHERE r.account = usage.account),
  bytes = (SELECT COALESCE(sum(length(blob)), 0) FROM records r WHERE r.account = usage.account)
    + (SELECT COALESCE(sum(length(blob)), 0) FROM heads h WHERE h.account = usage.account),
  files = (SELECT COALESCE(sum(size), 0) FROM chunks c WHERE c.account = usage.account);

CREATE TRIGGER account_made AFTER INSERT ON accounts BEGIN
  INSERT INTO usage (account) VALUES (new.account);
END;
CREATE TRIGGER account_gone AFTER DELETE ON accounts BEGIN
  DELETE FROM usage WHERE account = old.account;
END;
CREATE TRIGGER record_made AFTER INSERT ON records BEGIN
  UPDATE usage SET records = records + 1, bytes = bytes + length(new.blob) WHERE account = new.account;
END;
CREATE TRIGGER record_changed AFTER UPDATE OF blob ON records BEGIN
  UPDATE usage SET bytes = bytes + length(new.blob) - length(old.blob) WHERE account = new.account;
END;
CREATE TRIGGER record_gone AFTER DELETE ON records BEGIN
  UPDATE usage SET records = records - 1, bytes = bytes - length(old.blob) WHERE account = old.account;
END;
CREATE TRIGGER head_made AFTER INSERT ON heads BEGIN
  UPDATE usage SET bytes = bytes + length(new.blob) WHERE account = new.account;
END;
CREATE TRIGGER head_gone AFTER DELETE ON heads BEGIN
  UPDATE usage SET bytes = bytes - length(old.blob) WHERE account = old.account;
END;
CREATE TRIGGER chunk_made AFTER INSERT ON chunks BEGIN
  UPDATE usage SET files = files + new.size WHERE account = new.account;
END;
CREATE TRIGGER chunk_changed AFTER UPDATE OF size ON chunks BEGIN
  UPDATE usage SET files = files + new.size - old.size WHERE account = new.account;
END;
CREATE TRIGGER chunk_gone AFTER DELETE ON chunks BEGIN
  UPDATE usage SET files = files - old.size WHERE account = old.account;
END;
DROP INDEX chunks_by_size;

-- Changes are read in parts, in the order in which they were made.
CREATE INDEX records_by_change ON records (account, head, record);
DROP INDEX records_by_head;
