-- Keys that are kept apart from accounts, and attached to them.
CREATE TABLE shelf_key (
  id          INTEGER PRIMARY KEY AUTOINCREMENT,
  name        TEXT NOT NULL UNIQUE COLLATE NOCASE,
  owner       TEXT NOT NULL, -- who has the private half
  note        TEXT NOT NULL,
  type        TEXT NOT NULL,
  bits        INTEGER NOT NULL,
  fingerprint TEXT NOT NULL UNIQUE,
  blob        BLOB NOT NULL,
  authority   INTEGER NOT NULL,
  expires     INTEGER NOT NULL, -- 0: never
  networks    TEXT NOT NULL,    -- '': anywhere
  added       INTEGER NOT NULL,
  replaced    INTEGER NOT NULL  -- when another key took its place; 0: never
) STRICT;

CREATE TABLE shelf_use (
  account_id INTEGER NOT NULL REFERENCES account (id) ON DELETE CASCADE,
  shelf_id   INTEGER NOT NULL REFERENCES shelf_key (id),
  last_used  INTEGER NOT NULL DEFAULT 0,
  PRIMARY KEY (account_id, shelf_id)
) STRICT, WITHOUT ROWID;
CREATE INDEX shelf_use_key ON shelf_use (shelf_id);
