-- Settings, mounts and grants become JSON documents, as the API has them: an
-- account and a group have the same ones, and nothing asks for a part of them.

ALTER TABLE account ADD COLUMN mail TEXT NOT NULL DEFAULT '';
ALTER TABLE account ADD COLUMN must_change INTEGER NOT NULL DEFAULT 0;
ALTER TABLE account ADD COLUMN furnished INTEGER NOT NULL DEFAULT 0;
ALTER TABLE account ADD COLUMN groups TEXT NOT NULL DEFAULT '[]';
ALTER TABLE account ADD COLUMN settings TEXT NOT NULL DEFAULT '{}';
ALTER TABLE account ADD COLUMN mounts TEXT NOT NULL DEFAULT '[]';
ALTER TABLE account ADD COLUMN grants TEXT NOT NULL DEFAULT '[]';

UPDATE account SET
  settings = json_patch('{}', json_object(
    'signInBy', nullif(sign_in_by, 'either'),
    'encryption', CASE WHEN allow_plain THEN 'optional' END,
    'validFrom', CASE WHEN valid_from THEN strftime('%Y-%m-%dT%H:%M:%SZ', valid_from / 1000000, 'unixepoch') END,
    'validUntil', CASE WHEN valid_until THEN strftime('%Y-%m-%dT%H:%M:%SZ', valid_until / 1000000, 'unixepoch') END,
    'maxSessions', nullif(max_sessions, 0),
    'maxUpload', nullif(max_upload, 0))),
  mounts = (SELECT json_group_array(json_object('at', at, 'store', store, 'folder', folder, 'readOnly', json(iif(read_only, 'true', 'false'))))
    FROM account_mount WHERE account_id = account.id),
  grants = (SELECT json_group_array(json_object('path', path, 'rights', rights)) FROM account_grant WHERE account_id = account.id),
  furnished = last_sign_in > 0;

DROP TABLE account_mount;
DROP TABLE account_grant;
ALTER TABLE account DROP COLUMN sign_in_by;
ALTER TABLE account DROP COLUMN allow_plain;
ALTER TABLE account DROP COLUMN valid_from;
ALTER TABLE account DROP COLUMN valid_until;
ALTER TABLE account DROP COLUMN max_sessions;
ALTER TABLE account DROP COLUMN max_upload;

CREATE TABLE account_group (
  id       INTEGER PRIMARY KEY,
  name     TEXT NOT NULL UNIQUE COLLATE NOCASE,
  note     TEXT NOT NULL,
  settings TEXT NOT NULL,
  mounts   TEXT NOT NULL,
  grants   TEXT NOT NULL,
  created  INTEGER NOT NULL,
  changed  INTEGER NOT NULL
) STRICT;

-- What each folder with a quota holds. While it changes it is not settled: after
-- an end without goodbye such a folder is counted anew.
CREATE TABLE place (
  store   TEXT NOT NULL,
  folder  TEXT NOT NULL,
  bytes   INTEGER NOT NULL,
  files   INTEGER NOT NULL,
  settled INTEGER NOT NULL,
  counted INTEGER NOT NULL, -- when it was last counted on the disk
  PRIMARY KEY (store, folder)
) STRICT, WITHOUT ROWID;

CREATE TABLE place_history (
  store  TEXT NOT NULL,
  folder TEXT NOT NULL,
  at     INTEGER NOT NULL,
  bytes  INTEGER NOT NULL,
  files  INTEGER NOT NULL,
  PRIMARY KEY (store, folder, at)
) STRICT, WITHOUT ROWID;
