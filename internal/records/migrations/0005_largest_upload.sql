ALTER TABLE account ADD COLUMN max_upload INTEGER NOT NULL DEFAULT 0; -- bytes; 0: any size
