-- What the entries of the protect list cover on each machine, as its newest look found it.
CREATE TABLE protection_covers (
    machine_id INTEGER NOT NULL REFERENCES machines (id) ON DELETE CASCADE,
    kind TEXT NOT NULL,
    what TEXT NOT NULL,
    is_there INTEGER NOT NULL,
    kept INTEGER NOT NULL,
    kept_size INTEGER NOT NULL,
    at INTEGER NOT NULL,
    PRIMARY KEY (machine_id, kind, what)
) STRICT, WITHOUT ROWID;
