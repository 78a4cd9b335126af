ALTER TABLE account ADD COLUMN valid_from INTEGER NOT NULL DEFAULT 0; -- 0: always
ALTER TABLE account ADD COLUMN valid_until INTEGER NOT NULL DEFAULT 0; -- 0: for ever
ALTER TABLE account ADD COLUMN max_sessions INTEGER NOT NULL DEFAULT 0; -- 0: any number
