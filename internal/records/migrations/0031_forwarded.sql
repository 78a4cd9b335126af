-- Which headers the proxies of a listener write; before, any were believed.
ALTER TABLE listener ADD COLUMN forwarding TEXT NOT NULL DEFAULT '';
UPDATE listener SET forwarding = 'x-forwarded-for,x-forwarded-host,x-forwarded-proto' WHERE forwarded = 1;
ALTER TABLE listener DROP COLUMN forwarded;
