-- Who is in which group, kept in step with the accounts, so that it can be asked without reading them all.
CREATE TABLE member (
  group_name TEXT NOT NULL COLLATE NOCASE,
  account_id INTEGER NOT NULL REFERENCES account (id) ON DELETE CASCADE,
  PRIMARY KEY (group_name, account_id)
) STRICT, WITHOUT ROWID;
CREATE INDEX member_account ON member (account_id);

INSERT OR IGNORE INTO member SELECT value, account.id FROM account, json_each(account.groups);

CREATE TRIGGER member_of_new AFTER INSERT ON account BEGIN
  INSERT OR IGNORE INTO member SELECT value, new.id FROM json_each(new.groups);
END;
CREATE TRIGGER member_of_changed AFTER UPDATE OF groups ON account WHEN old.groups <> new.groups BEGIN
  DELETE FROM member WHERE account_id = new.id;
  INSERT OR IGNORE INTO member SELECT value, new.id FROM json_each(new.groups);
END;
