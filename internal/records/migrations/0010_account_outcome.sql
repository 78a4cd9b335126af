-- What of an account went wrong: few records, sought among its many.
CREATE INDEX audit_record_account_outcome ON audit_record (account, outcome, seq) WHERE outcome <> 'done';
