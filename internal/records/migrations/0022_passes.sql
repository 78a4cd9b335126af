-- Links with which somebody without an account fetches files of an account, or leaves some.
CREATE TABLE pass (
  id         TEXT PRIMARY KEY,
  account_id INTEGER NOT NULL REFERENCES account (id) ON DELETE CASCADE,
  kind       TEXT NOT NULL,    -- 'fetch' or 'drop'
  digest     BLOB NOT NULL UNIQUE, -- SHA-256 of the secret
  paths      TEXT NOT NULL,    -- JSON: files and folders of the account's tree
  shows      INTEGER NOT NULL, -- who leaves files sees what is there
  asks       INTEGER NOT NULL, -- for a name, an e-mail address and a message
  apart      INTEGER NOT NULL, -- what one visitor leaves lies in a folder of its own
  password   TEXT NOT NULL,    -- its hash; '': none is asked for
  text       TEXT NOT NULL,    -- to whoever opens it
  note       TEXT NOT NULL,
  max_uses   INTEGER NOT NULL, -- 0: any number
  max_bytes  INTEGER NOT NULL,
  networks   TEXT NOT NULL,
  operator   TEXT NOT NULL,    -- who made it; '': the account's holder
  created    INTEGER NOT NULL,
  expires    INTEGER NOT NULL,
  ended      INTEGER NOT NULL, -- by hand; 0: it was not
  ended_by   TEXT NOT NULL,
  uses       INTEGER NOT NULL,
  bytes      INTEGER NOT NULL,
  last_used  INTEGER NOT NULL
) STRICT, WITHOUT ROWID;
CREATE INDEX pass_account ON pass (account_id, created);

-- Visits with a pass in which something was moved.
CREATE TABLE pass_use (
  id      TEXT PRIMARY KEY, -- the session
  pass_id TEXT NOT NULL REFERENCES pass (id) ON DELETE CASCADE,
  address TEXT NOT NULL,
  client  TEXT NOT NULL,
  began   INTEGER NOT NULL,
  last    INTEGER NOT NULL,
  files   INTEGER NOT NULL,
  bytes   INTEGER NOT NULL,
  name    TEXT NOT NULL,    -- what the visitor says, where a pass asks
  mail    TEXT NOT NULL,
  message TEXT NOT NULL
) STRICT, WITHOUT ROWID;
CREATE INDEX pass_use_pass ON pass_use (pass_id, began);

ALTER TABLE upload ADD COLUMN pass_id TEXT NOT NULL DEFAULT ''; -- with which it was begun; '': by the holder
