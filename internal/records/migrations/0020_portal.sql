-- Whether small pictures are made of what is in a store: 'on', 'off', '' by its kind.
ALTER TABLE store ADD COLUMN previews TEXT NOT NULL DEFAULT '';
