-- Uploads that wait for their check.
CREATE TABLE held (
  id         TEXT PRIMARY KEY,
  definition TEXT NOT NULL     -- JSON
) STRICT, WITHOUT ROWID;
