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

-- Tokens that stand for an account in scripts, within a path and some rights.
CREATE TABLE account_token (
  id         TEXT PRIMARY KEY,
  account_id INTEGER NOT NULL REFERENCES account (id) ON DELETE CASCADE,
  digest     BLOB NOT NULL UNIQUE,
  label      TEXT NOT NULL,
  path       TEXT NOT NULL,
  rights     INTEGER NOT NULL,
  address    TEXT NOT NULL,
  created    INTEGER NOT NULL,
  expires    INTEGER NOT NULL,
  last_used  INTEGER NOT NULL
) STRICT, WITHOUT ROWID;
CREATE INDEX account_token_account ON account_token (account_id);

-- Passkeys (WebAuthn) by which account holders sign in to the portal.
CREATE TABLE account_passkey (
  id         TEXT PRIMARY KEY,
  account_id INTEGER NOT NULL REFERENCES account (id) ON DELETE CASCADE,
  label      TEXT NOT NULL,
  host       TEXT NOT NULL,
  credential TEXT NOT NULL, -- JSON
  created    INTEGER NOT NULL,
  last_used  INTEGER NOT NULL
) STRICT, WITHOUT ROWID;
CREATE INDEX account_passkey_account ON account_passkey (account_id);
