-- What an acknowledgement promises, for each store, and the number that marks a store's folder.
ALTER TABLE store ADD COLUMN mark TEXT NOT NULL DEFAULT '';
ALTER TABLE store ADD COLUMN durability TEXT NOT NULL DEFAULT 'power';

-- Audit records that were written down together with a change, and are to come into the trail.
CREATE TABLE audit_due (
  id     INTEGER PRIMARY KEY,
  record TEXT NOT NULL
) STRICT;

-- Where in the trail the clock was set back.
CREATE TABLE audit_turn (seq INTEGER PRIMARY KEY) STRICT;
INSERT INTO audit_turn
  SELECT seq FROM (SELECT seq, at, lag(at) OVER (ORDER BY seq) AS before FROM audit_record) WHERE at < before - 2000000;

-- Nothing is kept here: room is laid out with it.
CREATE TABLE room (bytes BLOB) STRICT;
