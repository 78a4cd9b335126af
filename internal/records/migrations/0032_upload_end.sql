-- An upload that has come whole and is about to get its name: where its part is gone then, it has it.
ALTER TABLE upload ADD COLUMN ending INTEGER NOT NULL DEFAULT 0;
-- What the client said of the file, for it to ask.
ALTER TABLE upload ADD COLUMN about TEXT NOT NULL DEFAULT '';
