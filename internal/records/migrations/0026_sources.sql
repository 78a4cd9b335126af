-- Who says whether somebody is who they say.
CREATE TABLE source (
  name       TEXT PRIMARY KEY COLLATE NOCASE,
  definition TEXT NOT NULL, -- JSON
  secret     TEXT NOT NULL  -- what the service proves itself with
) STRICT;

-- Which of them is asked, by a pattern on the account's name: the first that fits.
CREATE TABLE route (
  place   INTEGER PRIMARY KEY,
  pattern TEXT NOT NULL,
  sources TEXT NOT NULL -- JSON
) STRICT;

ALTER TABLE account ADD COLUMN source TEXT NOT NULL DEFAULT '';    -- '': own
ALTER TABLE account ADD COLUMN source_id TEXT NOT NULL DEFAULT ''; -- what the source calls it for ever

-- With what somebody was let in last, while their source is away.
CREATE TABLE vouched (
  account INTEGER PRIMARY KEY REFERENCES account (id) ON DELETE CASCADE,
  source  TEXT NOT NULL,
  hash    TEXT NOT NULL,    -- of the password that was right; '': none was
  at      INTEGER NOT NULL, -- when that was
  seen    INTEGER NOT NULL  -- when the source said last that they may sign in
) STRICT;

-- Networks from which the second factor was right, and until when it is not asked there.
CREATE TABLE factor_network (
  account INTEGER NOT NULL REFERENCES account (id) ON DELETE CASCADE,
  network TEXT NOT NULL,
  until   INTEGER NOT NULL,
  PRIMARY KEY (account, network)
) STRICT, WITHOUT ROWID;

-- Accounts that were suspended because their source knew them no more.
CREATE TABLE leaver (account INTEGER PRIMARY KEY REFERENCES account (id) ON DELETE CASCADE) STRICT;
