-- What checks of machines came to. Of each volume or disk the newest that could look counts.

ALTER TABLE runs ADD COLUMN checks TEXT;

CREATE TABLE checks (
    id INTEGER PRIMARY KEY,
    machine_id INTEGER NOT NULL REFERENCES machines (id),
    run_id INTEGER NOT NULL REFERENCES runs (id),
    check_key TEXT NOT NULL,
    -- The volume or disk; empty for the machine.
    of_what TEXT NOT NULL,
    result TEXT NOT NULL CHECK (result IN ('clean', 'findings', 'could not look')),
    checked TEXT NOT NULL,
    ended_at INTEGER NOT NULL,
    settled_at INTEGER,
    settled_by TEXT NOT NULL DEFAULT '',
    settled_word TEXT NOT NULL DEFAULT '',
    UNIQUE (run_id, check_key, of_what)
) STRICT;
CREATE INDEX checks_by_machine ON checks (machine_id, check_key, of_what, ended_at);
