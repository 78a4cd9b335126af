-- Passkeys (WebAuthn) by which operators sign in to the console.
CREATE TABLE passkey (
  id          TEXT PRIMARY KEY,
  operator_id INTEGER NOT NULL REFERENCES operator (id) ON DELETE CASCADE,
  label       TEXT NOT NULL,
  host        TEXT NOT NULL, -- under which name of the console it works
  credential  TEXT NOT NULL, -- JSON
  created     INTEGER NOT NULL,
  last_used   INTEGER NOT NULL
) STRICT, WITHOUT ROWID;
CREATE INDEX passkey_operator ON passkey (operator_id);
