-- Long work: actions, what machines have and lack, how they stood before and after, advice.

ALTER TABLE runs ADD COLUMN modes TEXT;
-- JSON: the action that a run is.
ALTER TABLE runs ADD COLUMN act TEXT;
-- After so many days a security update that is missing needs somebody.
ALTER TABLE shop ADD COLUMN security_days INTEGER NOT NULL DEFAULT 14;

-- Checks anew: the same may be done in two ways in one run, quickly first and in full later.
CREATE TABLE checks_anew (
    id INTEGER PRIMARY KEY,
    machine_id INTEGER NOT NULL REFERENCES machines (id),
    run_id INTEGER NOT NULL REFERENCES runs (id),
    check_key TEXT NOT NULL,
    mode TEXT NOT NULL DEFAULT '',
    -- The volume or disk; empty for the machine.
    of_what TEXT NOT NULL,
    result TEXT NOT NULL CHECK (result IN ('clean', 'findings', 'could not look')),
    checked TEXT NOT NULL,
    units INTEGER NOT NULL DEFAULT 0,
    seconds REAL NOT NULL DEFAULT 0,
    ended_at INTEGER NOT NULL,
    settled_at INTEGER,
    settled_by TEXT NOT NULL DEFAULT '',
    settled_word TEXT NOT NULL DEFAULT '',
    UNIQUE (run_id, check_key, mode, of_what)
) STRICT;
INSERT INTO checks_anew
    (id, machine_id, run_id, check_key, of_what, result, checked, ended_at, settled_at, settled_by,
     settled_word)
SELECT id, machine_id, run_id, check_key, of_what, result, checked, ended_at, settled_at, settled_by,
       settled_word
FROM checks;
DROP TABLE checks;
ALTER TABLE checks_anew RENAME TO checks;
CREATE INDEX checks_by_machine ON checks (machine_id, check_key, mode, of_what, ended_at);

-- What became of an action, part by part; gone on with after it was cut off, the newest counts.
CREATE TABLE acted (
    run_id INTEGER NOT NULL REFERENCES runs (id),
    machine_id INTEGER NOT NULL REFERENCES machines (id),
    action TEXT NOT NULL,
    of_what TEXT NOT NULL,
    part TEXT NOT NULL,
    at INTEGER NOT NULL,
    PRIMARY KEY (run_id, action, of_what)
) STRICT, WITHOUT ROWID;
CREATE INDEX acted_by_machine ON acted (machine_id, action, of_what, at);

-- The newest list of each kind that could be read, and why a later look could not.
CREATE TABLE inventories (
    machine_id INTEGER NOT NULL REFERENCES machines (id),
    kind TEXT NOT NULL,
    taken_at INTEGER NOT NULL,
    content TEXT NOT NULL,
    unread TEXT NOT NULL DEFAULT '',
    unread_at INTEGER,
    PRIMARY KEY (machine_id, kind)
) STRICT, WITHOUT ROWID;

CREATE TABLE installed (
    machine_id INTEGER NOT NULL REFERENCES machines (id),
    key TEXT NOT NULL,
    name TEXT NOT NULL,
    version TEXT NOT NULL,
    size INTEGER,
    last_used INTEGER,
    trial INTEGER NOT NULL,
    program TEXT NOT NULL,
    taken_at INTEGER NOT NULL,
    PRIMARY KEY (machine_id, key)
) STRICT, WITHOUT ROWID;
CREATE INDEX installed_by_name ON installed (name COLLATE NOCASE);

CREATE TABLE missing_updates (
    machine_id INTEGER NOT NULL REFERENCES machines (id),
    name TEXT NOT NULL,
    security INTEGER NOT NULL,
    since INTEGER NOT NULL,
    content TEXT NOT NULL,
    PRIMARY KEY (machine_id, name)
) STRICT, WITHOUT ROWID;
CREATE INDEX missing_security ON missing_updates (security, since);

-- How a machine stood before a run changed anything, and after all of it.
CREATE TABLE snapshots (
    run_id INTEGER PRIMARY KEY REFERENCES runs (id),
    before TEXT NOT NULL,
    after TEXT
) STRICT;

CREATE TABLE advice (
    id INTEGER PRIMARY KEY,
    machine_id INTEGER NOT NULL REFERENCES machines (id),
    kind TEXT NOT NULL,
    subject TEXT NOT NULL DEFAULT '',
    text TEXT NOT NULL,
    figures TEXT NOT NULL,
    fate TEXT NOT NULL,
    word TEXT NOT NULL DEFAULT '',
    by TEXT NOT NULL,
    at INTEGER NOT NULL,
    made_by TEXT NOT NULL,
    made_at INTEGER NOT NULL,
    version INTEGER NOT NULL DEFAULT 1
) STRICT;
CREATE INDEX advice_by_machine ON advice (machine_id, fate);

-- How long steps and actions took lately, newest first: JSON list of [units, seconds].
CREATE TABLE step_lengths (
    machine_id INTEGER NOT NULL REFERENCES machines (id),
    step TEXT NOT NULL,
    recent TEXT NOT NULL,
    PRIMARY KEY (machine_id, step)
) STRICT, WITHOUT ROWID;
