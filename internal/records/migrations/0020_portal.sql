-- Whether small pictures are made of what is in a store: 'on', 'off', '' by its kind.
ALTER TABLE store ADD COLUMN previews TEXT NOT NULL DEFAULT '';

-- One-time codes (RFC 6238) of account holders: the shared secret, and the last step whose code was used.
CREATE TABLE account_code (
  account_id INTEGER PRIMARY KEY REFERENCES account (id) ON DELETE CASCADE,
  secret     TEXT NOT NULL,
  step       INTEGER NOT NULL
) STRICT;
-- What stands in for a code that can't be made any more; each works once.
CREATE TABLE account_recovery (
  account_id INTEGER NOT NULL REFERENCES account (id) ON DELETE CASCADE,
  digest     BLOB NOT NULL,
  PRIMARY KEY (account_id, digest)
) STRICT, WITHOUT ROWID;
