-- Records that were sealed into archive files may go; what stays of them is where
-- they stood in the chain: the digest before them, and their last.
CREATE TABLE audit_archive (
  name     TEXT PRIMARY KEY, -- of the file
  made     INTEGER NOT NULL,
  records  INTEGER NOT NULL,
  first    INTEGER NOT NULL,
  last     INTEGER NOT NULL,
  sha256   BLOB NOT NULL, -- of the file
  gaps     BLOB NOT NULL, -- digest of the gaps that it leaves
  signed   BLOB NOT NULL,
  removed  INTEGER NOT NULL -- its records are no longer in the table
) STRICT, WITHOUT ROWID;

CREATE TABLE audit_gap (
  first   INTEGER PRIMARY KEY,
  last    INTEGER NOT NULL,
  prev    BLOB NOT NULL, -- digest of the record before the first
  digest  BLOB NOT NULL, -- of the last
  archive TEXT NOT NULL REFERENCES audit_archive (name)
) STRICT;

DROP TRIGGER audit_record_never_goes;
CREATE TRIGGER audit_record_never_goes BEFORE DELETE ON audit_record
WHEN NOT EXISTS (SELECT 1 FROM audit_gap WHERE first = (SELECT max(first) FROM audit_gap WHERE first <= OLD.seq) AND last >= OLD.seq)
BEGIN SELECT RAISE (ABORT, 'the audit trail is append-only'); END;
