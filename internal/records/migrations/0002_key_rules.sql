ALTER TABLE account ADD COLUMN sign_in_by TEXT NOT NULL DEFAULT 'either' CHECK (sign_in_by IN ('either', 'password', 'key', 'both'));

ALTER TABLE account_key ADD COLUMN authority INTEGER NOT NULL DEFAULT 0;
ALTER TABLE account_key ADD COLUMN expires INTEGER NOT NULL DEFAULT 0; -- 0: never
ALTER TABLE account_key ADD COLUMN networks TEXT NOT NULL DEFAULT ''; -- '': anywhere
