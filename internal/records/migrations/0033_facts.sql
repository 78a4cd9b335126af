-- What a record says in fields of its own; '' where it says nothing but what all say, as all did before.
ALTER TABLE audit_record ADD COLUMN facts TEXT NOT NULL DEFAULT '';
