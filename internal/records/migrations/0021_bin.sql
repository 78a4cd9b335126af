-- What was deleted on the portal and can be put back for a while.
CREATE TABLE binned (
  id         TEXT PRIMARY KEY,
  account_id INTEGER REFERENCES account (id) ON DELETE SET NULL,
  path       TEXT NOT NULL,    -- where it was in the account's tree
  is_folder  INTEGER NOT NULL,
  size       INTEGER NOT NULL, -- of a file, bytes
  store      TEXT NOT NULL,    -- where it lies
  lies_in    TEXT NOT NULL,
  deleted    INTEGER NOT NULL,
  until      INTEGER NOT NULL
) STRICT, WITHOUT ROWID;
CREATE INDEX binned_account ON binned (account_id);
CREATE INDEX binned_until ON binned (until);
