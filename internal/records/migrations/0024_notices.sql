-- Who is told when something happens, and what they were told.
CREATE TABLE receiver (
  name       TEXT PRIMARY KEY,
  account    TEXT NOT NULL,    -- whose holder it is; '': of operators
  definition TEXT NOT NULL,    -- JSON
  secrets    TEXT NOT NULL,    -- JSON: what signs its calls, and the values of its headers
  cursor     INTEGER NOT NULL  -- the last record of the trail that it needs no more
) STRICT, WITHOUT ROWID;

CREATE TABLE notice (
  name       TEXT PRIMARY KEY,
  account    TEXT NOT NULL,
  definition TEXT NOT NULL,    -- JSON
  created    INTEGER NOT NULL,
  due        INTEGER NOT NULL  -- the newest moment by which an expected upload had to come that was looked at
) STRICT, WITHOUT ROWID;
CREATE INDEX notice_account ON notice (account);

CREATE TABLE told (
  id       INTEGER PRIMARY KEY,
  receiver TEXT NOT NULL REFERENCES receiver (name) ON DELETE CASCADE,
  seq      INTEGER NOT NULL,  -- of the record
  event    TEXT NOT NULL,
  notices  TEXT NOT NULL,     -- their names, joined by blanks
  about    TEXT NOT NULL,     -- account and path, for people
  happened INTEGER NOT NULL,
  at       INTEGER NOT NULL,  -- of the last try
  tries    INTEGER NOT NULL,
  state    TEXT NOT NULL,     -- 'told', 'aside' or 'again'
  answer   TEXT NOT NULL,
  record   TEXT NOT NULL      -- JSON, of what was not told
) STRICT;
CREATE INDEX told_receiver ON told (receiver, state, id);

-- Troubles that are not over.
CREATE TABLE trouble (
  kind  TEXT NOT NULL,        -- the reason
  of    TEXT NOT NULL,        -- what has it
  says  TEXT NOT NULL,
  since INTEGER NOT NULL,
  PRIMARY KEY (kind, of)
) STRICT, WITHOUT ROWID;
