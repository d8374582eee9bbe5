-- Pictures and PDFs that belong to an entry; their digests are part of it.
ALTER TABLE records ADD COLUMN attachments TEXT;
CREATE TABLE attachments (
    id INTEGER PRIMARY KEY,
    name TEXT NOT NULL,
    kind TEXT NOT NULL CHECK (kind IN ('png', 'jpeg', 'pdf')),
    size INTEGER NOT NULL,
    sha256 TEXT NOT NULL,
    content BLOB NOT NULL,
    made_by TEXT NOT NULL,
    made_at INTEGER NOT NULL,
    -- none yet: it was uploaded, and the entry is still being written
    entry INTEGER REFERENCES records (id)
) STRICT;
CREATE INDEX attachments_by_entry ON attachments (entry) WHERE entry IS NOT NULL;
CREATE INDEX attachments_without_entry ON attachments (made_by, made_at) WHERE entry IS NULL;
CREATE TRIGGER attachments_are_not_changed BEFORE UPDATE ON attachments WHEN old.entry IS NOT NULL
BEGIN SELECT RAISE(ABORT, 'maintenance records are append-only'); END;
CREATE TRIGGER attachments_are_not_removed BEFORE DELETE ON attachments WHEN old.entry IS NOT NULL
BEGIN SELECT RAISE(ABORT, 'maintenance records are append-only'); END;

-- What a run's entry stands on (the listing that was agreed to, the consents, the outcomes) enters
-- the chain as salted digests: a dispute is about those.
ALTER TABLE records ADD COLUMN evidence TEXT;
CREATE TABLE run_evidence (
    run_id INTEGER NOT NULL REFERENCES runs (id),
    what TEXT NOT NULL,
    salt BLOB NOT NULL,
    digest TEXT NOT NULL,
    PRIMARY KEY (run_id, what)
) STRICT, WITHOUT ROWID;
