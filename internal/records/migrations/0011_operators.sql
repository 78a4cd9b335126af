-- One-time codes (RFC 6238): the shared secret, and the last step whose code was used.
ALTER TABLE operator ADD COLUMN code_secret TEXT NOT NULL DEFAULT '';
ALTER TABLE operator ADD COLUMN code_step INTEGER NOT NULL DEFAULT 0;
ALTER TABLE operator ADD COLUMN last_sign_in INTEGER NOT NULL DEFAULT 0;

-- Recovery codes join what proves an operator; tokens may be narrower than their operator.
CREATE TABLE proof (
  digest      BLOB PRIMARY KEY,
  kind        TEXT NOT NULL CHECK (kind IN ('cookie', 'token', 'setup', 'recovery')),
  operator_id INTEGER REFERENCES operator (id) ON DELETE CASCADE,
  label       TEXT NOT NULL,
  role        TEXT NOT NULL, -- '': the operator's
  address     TEXT NOT NULL, -- from where it was made
  created     INTEGER NOT NULL,
  expires     INTEGER NOT NULL,
  last_used   INTEGER NOT NULL
) STRICT, WITHOUT ROWID;
INSERT INTO proof SELECT digest, kind, operator_id, label, '', '', created, expires, 0 FROM operator_proof;
DROP TABLE operator_proof;
CREATE INDEX proof_operator ON proof (operator_id);
