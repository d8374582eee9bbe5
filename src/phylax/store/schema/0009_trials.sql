-- What starts of machines cost, whether changes helped, and what became of changes by themselves.
CREATE TABLE starts (
    machine_id INTEGER NOT NULL REFERENCES machines (id) ON DELETE CASCADE,
    boot TEXT NOT NULL,
    at INTEGER NOT NULL,
    told TEXT NOT NULL,
    PRIMARY KEY (machine_id, boot)
) STRICT, WITHOUT ROWID;
CREATE INDEX starts_by_time ON starts (machine_id, at);

-- The trial of what a run changed: how it was judged last. Once told, it is not told again.
CREATE TABLE trials (
    run_id INTEGER PRIMARY KEY REFERENCES runs (id) ON DELETE CASCADE,
    machine_id INTEGER NOT NULL REFERENCES machines (id) ON DELETE CASCADE,
    programs TEXT NOT NULL,
    outcome TEXT NOT NULL CHECK (outcome IN ('helped', 'made it worse', 'cannot be told yet')),
    judged TEXT NOT NULL,
    at INTEGER NOT NULL
) STRICT;
CREATE INDEX trials_made_worse ON trials (machine_id) WHERE outcome = 'made it worse';

CREATE TABLE changes_anew (
    number INTEGER PRIMARY KEY,
    machine_id INTEGER NOT NULL REFERENCES machines (id),
    run_id INTEGER NOT NULL REFERENCES runs (id),
    id TEXT NOT NULL,
    setting TEXT NOT NULL DEFAULT 'runs-by-itself',
    program TEXT NOT NULL,
    of_person TEXT NOT NULL DEFAULT '',
    name TEXT NOT NULL,
    before TEXT NOT NULL,
    after TEXT NOT NULL,
    at INTEGER NOT NULL,
    who TEXT NOT NULL,
    state TEXT NOT NULL CHECK
        (state IN ('made', 'put back', 'altered since', 'undone by the machine')),
    ended_at INTEGER,
    ended_by TEXT NOT NULL DEFAULT '',
    word TEXT NOT NULL DEFAULT '',
    drifted_at INTEGER,
    drifted_to TEXT,
    drift_told INTEGER NOT NULL DEFAULT 0,
    UNIQUE (machine_id, id)
) STRICT;
INSERT INTO changes_anew
    (
    number, machine_id, run_id, id, program, name, before, after, at, who, state, ended_at,
    ended_by, word
    )
SELECT
    number, machine_id, run_id, id, program, name, before, after, at, who, state, ended_at,
    ended_by, word
FROM changes;
DROP TABLE changes;
ALTER TABLE changes_anew RENAME TO changes;
CREATE INDEX changes_by_run ON changes (run_id);
CREATE INDEX changes_undone ON changes (machine_id) WHERE state = 'undone by the machine';
CREATE INDEX changes_drifted ON changes (machine_id) WHERE drifted_at IS NOT NULL;

-- How many programs the last round has left to a person.
ALTER TABLE settings_looks ADD COLUMN waiting INTEGER NOT NULL DEFAULT 0;
CREATE INDEX settings_looks_waiting ON settings_looks (machine_id) WHERE waiting > 0;

-- Settings of one value as they were read last, and what each scope says of them.
ALTER TABLE settings_looks ADD COLUMN seen TEXT NOT NULL DEFAULT '[]';
CREATE TABLE setting_rules (
    scope TEXT NOT NULL CHECK (scope IN ('shop', 'client', 'machine')),
    subject_id INTEGER NOT NULL,
    setting TEXT NOT NULL,
    rule TEXT NOT NULL,
    version INTEGER NOT NULL DEFAULT 1,
    changed_by TEXT NOT NULL,
    changed_at INTEGER NOT NULL,
    PRIMARY KEY (scope, subject_id, setting)
) STRICT, WITHOUT ROWID;

-- One change on many machines.
CREATE TABLE shared_changes (
    id INTEGER PRIMARY KEY,
    program TEXT NOT NULL,
    name TEXT NOT NULL,
    intent TEXT NOT NULL,
    half_first INTEGER NOT NULL,
    who TEXT NOT NULL,
    at INTEGER NOT NULL,
    rest_at INTEGER,
    word TEXT NOT NULL
) STRICT;
CREATE TABLE shared_change_machines (
    shared_id INTEGER NOT NULL REFERENCES shared_changes (id) ON DELETE CASCADE,
    machine_id INTEGER NOT NULL REFERENCES machines (id) ON DELETE CASCADE,
    first INTEGER NOT NULL,
    run_id INTEGER REFERENCES runs (id) ON DELETE SET NULL,
    PRIMARY KEY (shared_id, machine_id)
) STRICT, WITHOUT ROWID;
