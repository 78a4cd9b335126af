-- Locks and dead properties of WebDAV (RFC 4918), on what lies in stores.
CREATE TABLE dav_lock (
  token   TEXT PRIMARY KEY,
  account TEXT NOT NULL,
  store   TEXT NOT NULL,
  path    TEXT NOT NULL,
  deep    INTEGER NOT NULL,
  shared  INTEGER NOT NULL,
  owner   TEXT NOT NULL, -- XML
  created INTEGER NOT NULL,
  expires INTEGER NOT NULL
) STRICT, WITHOUT ROWID;
CREATE INDEX dav_lock_place ON dav_lock (store, path);
CREATE INDEX dav_lock_account ON dav_lock (account);
CREATE TABLE dav_property (
  store   TEXT NOT NULL,
  path    TEXT NOT NULL,
  space   TEXT NOT NULL,
  name    TEXT NOT NULL,
  value   TEXT NOT NULL, -- XML
  parent  TEXT NOT NULL, -- the folder
  account TEXT NOT NULL, -- who set it
  PRIMARY KEY (store, path, space, name)
) STRICT, WITHOUT ROWID;
CREATE INDEX dav_property_parent ON dav_property (store, parent);
CREATE INDEX dav_property_account ON dav_property (account);
