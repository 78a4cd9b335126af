-- What hangs on places of stores goes with the accounts and stores that it is of, and with the places.
CREATE TABLE dav_lock_of (
  token      TEXT PRIMARY KEY,
  account_id INTEGER NOT NULL REFERENCES account (id) ON DELETE CASCADE,
  store      TEXT NOT NULL REFERENCES store (name) ON DELETE CASCADE,
  path       TEXT NOT NULL,
  deep       INTEGER NOT NULL,
  shared     INTEGER NOT NULL,
  owner      TEXT NOT NULL, -- XML
  created    INTEGER NOT NULL,
  expires    INTEGER NOT NULL
) STRICT, WITHOUT ROWID;
INSERT INTO dav_lock_of SELECT token, account.id, store.name, path, deep, shared, owner, dav_lock.created, expires
  FROM dav_lock JOIN account ON account.name = dav_lock.account JOIN store ON store.name = dav_lock.store;
DROP TABLE dav_lock;
ALTER TABLE dav_lock_of RENAME TO dav_lock;
CREATE INDEX dav_lock_place ON dav_lock (store, path);
CREATE INDEX dav_lock_account ON dav_lock (account_id);
CREATE TABLE dav_property_of (
  store      TEXT NOT NULL REFERENCES store (name) ON DELETE CASCADE,
  path       TEXT NOT NULL,
  space      TEXT NOT NULL,
  name       TEXT NOT NULL,
  value      TEXT NOT NULL, -- XML
  parent     TEXT NOT NULL, -- the folder
  account_id INTEGER REFERENCES account (id) ON DELETE SET NULL, -- who set it
  PRIMARY KEY (store, path, space, name)
) STRICT, WITHOUT ROWID;
INSERT INTO dav_property_of SELECT store.name, path, space, dav_property.name, value, parent, account.id
  FROM dav_property JOIN store ON store.name = dav_property.store LEFT JOIN account ON account.name = dav_property.account;
DROP TABLE dav_property;
ALTER TABLE dav_property_of RENAME TO dav_property;
CREATE INDEX dav_property_parent ON dav_property (store, parent);
CREATE INDEX dav_property_account ON dav_property (account_id);
CREATE TABLE password_link_of (
  digest     BLOB PRIMARY KEY,
  account_id INTEGER NOT NULL REFERENCES account (id) ON DELETE CASCADE,
  sealed     BLOB NOT NULL,
  expires    INTEGER NOT NULL
) STRICT, WITHOUT ROWID;
INSERT INTO password_link_of SELECT digest, account.id, sealed, expires FROM password_link JOIN account ON account.name = password_link.account;
DROP TABLE password_link;
ALTER TABLE password_link_of RENAME TO password_link;
CREATE INDEX password_link_account ON password_link (account_id);
CREATE INDEX upload_place ON upload (store, folder);
ALTER TABLE binned ADD COLUMN was_in TEXT NOT NULL DEFAULT ''; -- the folder in the store; '': it was not noted yet
CREATE INDEX binned_place ON binned (store, lies_in);
CREATE INDEX binned_from ON binned (store, was_in);
-- Deeds of several steps that are under way.
CREATE TABLE deed (
  id         TEXT PRIMARY KEY,
  definition TEXT NOT NULL -- JSON
) STRICT, WITHOUT ROWID;
