-- Stores of other kinds than folders of the machine, and where they lie.
ALTER TABLE store ADD COLUMN kind TEXT NOT NULL DEFAULT 'disk';
ALTER TABLE store ADD COLUMN hashes INTEGER NOT NULL DEFAULT 0;
ALTER TABLE store ADD COLUMN site TEXT NOT NULL DEFAULT '{}';
ALTER TABLE store ADD COLUMN secret TEXT NOT NULL DEFAULT '';
