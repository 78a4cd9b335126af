-- The web is a protocol of listeners too, and proxies may stand before any of them.
ALTER TABLE listener ADD COLUMN proxies TEXT NOT NULL DEFAULT '';
ALTER TABLE listener ADD COLUMN certificate TEXT NOT NULL DEFAULT '';
ALTER TABLE listener ADD COLUMN faces TEXT NOT NULL DEFAULT '';
ALTER TABLE listener ADD COLUMN hosts TEXT NOT NULL DEFAULT '';
ALTER TABLE listener ADD COLUMN redirect TEXT NOT NULL DEFAULT '';
ALTER TABLE listener ADD COLUMN forwarded INTEGER NOT NULL DEFAULT 0;
-- Who has listeners already had a console, on the address that every start gave it.
INSERT OR IGNORE INTO listener (name, protocol, address, stopped, encryption, faces)
    SELECT 'web', 'web', '127.0.0.1:8470', 0, 'off', 'console,portal,passes,dav' WHERE EXISTS (SELECT 1 FROM listener);
