-- Times are UTC microseconds since 1970.

CREATE TABLE store (
  name   TEXT PRIMARY KEY COLLATE NOCASE,
  folder TEXT NOT NULL
) STRICT;

CREATE TABLE listener (
  name         TEXT PRIMARY KEY,
  protocol     TEXT NOT NULL,
  address      TEXT NOT NULL,
  encryption   TEXT NOT NULL,
  passive_low  INTEGER NOT NULL,
  passive_high INTEGER NOT NULL,
  banner       TEXT NOT NULL
) STRICT;

CREATE TABLE account (
  id            INTEGER PRIMARY KEY,
  name          TEXT NOT NULL UNIQUE COLLATE NOCASE,
  note          TEXT NOT NULL,
  state         TEXT NOT NULL CHECK (state IN ('active', 'suspended')),
  password_hash TEXT NOT NULL,
  allow_plain   INTEGER NOT NULL,
  created       INTEGER NOT NULL,
  changed       INTEGER NOT NULL,
  last_sign_in  INTEGER NOT NULL DEFAULT 0
) STRICT;

CREATE TABLE account_mount (
  account_id INTEGER NOT NULL REFERENCES account (id) ON DELETE CASCADE,
  at         TEXT NOT NULL,
  store      TEXT NOT NULL REFERENCES store (name),
  folder     TEXT NOT NULL,
  read_only  INTEGER NOT NULL,
  PRIMARY KEY (account_id, at)
) STRICT, WITHOUT ROWID;

CREATE TABLE account_grant (
  account_id INTEGER NOT NULL REFERENCES account (id) ON DELETE CASCADE,
  path       TEXT NOT NULL,
  rights     TEXT NOT NULL,
  PRIMARY KEY (account_id, path)
) STRICT, WITHOUT ROWID;

CREATE TABLE account_key (
  id          INTEGER PRIMARY KEY,
  account_id  INTEGER NOT NULL REFERENCES account (id) ON DELETE CASCADE,
  label       TEXT NOT NULL,
  type        TEXT NOT NULL,
  bits        INTEGER NOT NULL,
  fingerprint TEXT NOT NULL,
  blob        BLOB NOT NULL,
  added       INTEGER NOT NULL,
  last_used   INTEGER NOT NULL DEFAULT 0,
  UNIQUE (account_id, fingerprint)
) STRICT;
CREATE INDEX account_key_fingerprint ON account_key (fingerprint);

CREATE TABLE operator (
  id            INTEGER PRIMARY KEY,
  name          TEXT NOT NULL UNIQUE COLLATE NOCASE,
  role          TEXT NOT NULL CHECK (role IN ('owner', 'manager', 'auditor')),
  password_hash TEXT NOT NULL,
  created       INTEGER NOT NULL
) STRICT;

-- What proves an operator: the cookie of a console session, an API token, or
-- the one-time set-up link (no operator yet). Only digests are kept.
CREATE TABLE operator_proof (
  digest      BLOB PRIMARY KEY,
  kind        TEXT NOT NULL CHECK (kind IN ('cookie', 'token', 'setup')),
  operator_id INTEGER REFERENCES operator (id) ON DELETE CASCADE,
  label       TEXT NOT NULL,
  created     INTEGER NOT NULL,
  expires     INTEGER NOT NULL
) STRICT, WITHOUT ROWID;

-- The audit trail: append-only, each row carrying the digest of the one before.
CREATE TABLE audit_record (
  seq       INTEGER PRIMARY KEY,
  at        INTEGER NOT NULL,
  account   TEXT NOT NULL,
  operator  TEXT NOT NULL,
  address   TEXT NOT NULL,
  protocol  TEXT NOT NULL,
  encrypted INTEGER NOT NULL,
  session   TEXT NOT NULL,
  action    TEXT NOT NULL,
  path      TEXT NOT NULL,
  target    TEXT NOT NULL,
  "offset"  INTEGER NOT NULL,
  bytes     INTEGER NOT NULL,
  duration  INTEGER NOT NULL, -- microseconds
  outcome   TEXT NOT NULL,
  reason    TEXT NOT NULL,
  detail    TEXT NOT NULL,
  prev      BLOB NOT NULL,
  digest    BLOB NOT NULL
) STRICT;
CREATE INDEX audit_record_account ON audit_record (account, seq);
CREATE INDEX audit_record_action ON audit_record (action, seq);

CREATE TRIGGER audit_record_never_changes BEFORE UPDATE ON audit_record
BEGIN SELECT RAISE (ABORT, 'the audit trail is append-only'); END;
CREATE TRIGGER audit_record_never_goes BEFORE DELETE ON audit_record
BEGIN SELECT RAISE (ABORT, 'the audit trail is append-only'); END;
