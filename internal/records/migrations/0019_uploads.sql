-- Uploads that come in pieces: how far one is, the size of what lies in the folder says.
CREATE TABLE upload (
  id         TEXT PRIMARY KEY,
  account_id INTEGER REFERENCES account (id) ON DELETE SET NULL,
  path       TEXT NOT NULL,    -- in the account's tree
  size       INTEGER NOT NULL, -- bytes
  replaces   INTEGER NOT NULL, -- it may take the place of a file
  hold       INTEGER NOT NULL, -- it waits for its hash
  hash       TEXT NOT NULL,    -- SHA-256, hexadecimal; '': none was announced
  state      BLOB,             -- of the hash of what came, while that is known
  hashed     INTEGER NOT NULL, -- how much that is, bytes
  store      TEXT NOT NULL,    -- where it lies
  folder     TEXT NOT NULL,
  once       INTEGER NOT NULL, -- it can't go on after the end of the service
  done       INTEGER NOT NULL, -- it has its name; kept for a client that did not hear so
  created    INTEGER NOT NULL,
  touched    INTEGER NOT NULL
) STRICT, WITHOUT ROWID;
CREATE INDEX upload_account ON upload (account_id);
