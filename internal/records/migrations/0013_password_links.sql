-- Generated passwords that wait to be fetched once: sealed with a key that only the link has.
CREATE TABLE password_link (
  digest  BLOB PRIMARY KEY,
  account TEXT NOT NULL,
  sealed  BLOB NOT NULL,
  expires INTEGER NOT NULL
) STRICT, WITHOUT ROWID;
