ALTER TABLE listener ADD COLUMN stopped INTEGER NOT NULL DEFAULT 0;
ALTER TABLE listener ADD COLUMN welcome TEXT NOT NULL DEFAULT '';
ALTER TABLE listener ADD COLUMN allow TEXT NOT NULL DEFAULT ''; -- networks; '': everybody
ALTER TABLE listener ADD COLUMN deny TEXT NOT NULL DEFAULT '';
ALTER TABLE listener ADD COLUMN advertise TEXT NOT NULL DEFAULT '';
ALTER TABLE listener ADD COLUMN no_active INTEGER NOT NULL DEFAULT 0;
ALTER TABLE listener ADD COLUMN resume_data INTEGER NOT NULL DEFAULT 0;
ALTER TABLE listener ADD COLUMN client_certificates INTEGER NOT NULL DEFAULT 0;

-- No two listeners share passive ports any more: what ftp and ftps had together is halved.
UPDATE listener SET passive_high = passive_low + (passive_high - passive_low) / 2
  WHERE name = 'ftp' AND passive_low = (SELECT passive_low FROM listener WHERE name = 'ftps');
UPDATE listener SET passive_low = 1 + (SELECT passive_high FROM listener WHERE name = 'ftp')
  WHERE name = 'ftps' AND passive_low = (SELECT passive_low FROM listener WHERE name = 'ftp') AND passive_low < passive_high;

-- Where the TLS certificate and its key are read, when not in the data folder.
CREATE TABLE setting (
  name  TEXT PRIMARY KEY,
  value TEXT NOT NULL
) STRICT, WITHOUT ROWID;
