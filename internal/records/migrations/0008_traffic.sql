-- Traffic over time, added up from the audit trail: by the hour, and by the day (UTC)
-- for what is long ago. at is where the hour or day begins.
CREATE TABLE traffic_hour (
  at       INTEGER NOT NULL,
  account  TEXT NOT NULL,
  groups   TEXT NOT NULL, -- the account's groups when it was added up, joined by commas
  address  TEXT NOT NULL,
  protocol TEXT NOT NULL,
  action   TEXT NOT NULL,
  mount    TEXT NOT NULL, -- STORE:FOLDER that the path lay in
  done     INTEGER NOT NULL,
  refused  INTEGER NOT NULL,
  failed   INTEGER NOT NULL, -- or interrupted
  bytes    INTEGER NOT NULL,
  micros   INTEGER NOT NULL, -- how long it took altogether
  PRIMARY KEY (at, account, groups, address, protocol, action, mount)
) STRICT, WITHOUT ROWID;

CREATE TABLE traffic_day (
  at       INTEGER NOT NULL,
  account  TEXT NOT NULL,
  groups   TEXT NOT NULL,
  address  TEXT NOT NULL,
  protocol TEXT NOT NULL,
  action   TEXT NOT NULL,
  mount    TEXT NOT NULL,
  done     INTEGER NOT NULL,
  refused  INTEGER NOT NULL,
  failed   INTEGER NOT NULL,
  bytes    INTEGER NOT NULL,
  micros   INTEGER NOT NULL,
  PRIMARY KEY (at, account, groups, address, protocol, action, mount)
) STRICT, WITHOUT ROWID;
