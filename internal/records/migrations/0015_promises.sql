-- What an acknowledgement promises, for each store, and the number that marks a store's folder.
ALTER TABLE store ADD COLUMN mark TEXT NOT NULL DEFAULT '';
ALTER TABLE store ADD COLUMN durability TEXT NOT NULL DEFAULT 'power';

-- Audit records that were written down together with a change, and are to come into the trail.
CREATE TABLE audit_due (
  id     INTEGER PRIMARY KEY,
  record TEXT NOT NULL
) STRICT;
