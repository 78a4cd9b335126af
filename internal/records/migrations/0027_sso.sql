-- Operators whom single sign-on vouches for.
ALTER TABLE operator ADD COLUMN source TEXT NOT NULL DEFAULT '';    -- '': own
ALTER TABLE operator ADD COLUMN source_id TEXT NOT NULL DEFAULT ''; -- what the source calls it for ever
