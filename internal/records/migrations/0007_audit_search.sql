-- What searches of the trail begin with. Paths and free text are looked for from the
-- newest record back, a stretch at a time.
CREATE INDEX audit_record_address ON audit_record (address, seq);
CREATE INDEX audit_record_session ON audit_record (session, seq);
CREATE INDEX audit_record_at ON audit_record (at);
CREATE INDEX audit_record_operator ON audit_record (operator, seq) WHERE operator <> '';
CREATE INDEX audit_record_outcome ON audit_record (outcome, seq) WHERE outcome <> 'done';
