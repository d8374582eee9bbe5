-- Copies of this file, where they go and which are kept.
CREATE TABLE backup_plan (
    id INTEGER PRIMARY KEY CHECK (id = 1),
    place TEXT NOT NULL,
    hour INTEGER NOT NULL,
    daily INTEGER NOT NULL,
    weekly INTEGER NOT NULL,
    monthly INTEGER NOT NULL,
    version INTEGER NOT NULL,
    changed_by TEXT NOT NULL,
    changed_at INTEGER NOT NULL
) STRICT;
INSERT INTO backup_plan VALUES (1, '', 2, 14, 13, 12, 1, '', 0);

CREATE TABLE backups (
    id INTEGER PRIMARY KEY,
    at INTEGER NOT NULL,
    name TEXT NOT NULL,
    place TEXT NOT NULL,
    size INTEGER NOT NULL,
    seconds REAL NOT NULL,
    entries INTEGER NOT NULL,
    head TEXT NOT NULL,
    why TEXT NOT NULL,
    gone_at INTEGER
) STRICT;
