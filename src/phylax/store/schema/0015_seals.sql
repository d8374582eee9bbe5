-- Seals of the record, and a chain of the audit from now on. The first chained deed carries a
-- digest over all that were noted before.
CREATE TABLE seals (
    id INTEGER PRIMARY KEY,
    at INTEGER NOT NULL,
    count INTEGER NOT NULL,
    note TEXT NOT NULL
) STRICT;

ALTER TABLE audit ADD COLUMN hashed TEXT;
ALTER TABLE audit ADD COLUMN digest TEXT;

CREATE TRIGGER audit_is_not_changed BEFORE UPDATE ON audit
BEGIN SELECT RAISE(ABORT, 'the audit is append-only'); END;
CREATE TRIGGER audit_is_not_removed BEFORE DELETE ON audit
BEGIN SELECT RAISE(ABORT, 'the audit is append-only'); END;
