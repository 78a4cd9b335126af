-- What operators changed of the settings: before and after as JSON, '' where there was nothing.
CREATE TABLE change (
  id       INTEGER PRIMARY KEY,
  at       INTEGER NOT NULL,
  operator TEXT NOT NULL,
  address  TEXT NOT NULL,
  action   TEXT NOT NULL,
  what     TEXT NOT NULL,
  name     TEXT NOT NULL,
  before   TEXT NOT NULL,
  after    TEXT NOT NULL,
  undoes   INTEGER REFERENCES change (id)
) STRICT;
CREATE INDEX change_name ON change (what, name, id);
CREATE INDEX change_undoes ON change (undoes) WHERE undoes IS NOT NULL;
