-- What is held on machines, what is left again and again, and runs that put back or let go.

-- Runs anew: their work has more kinds. Foreign keys are off while a schema file is applied.
CREATE TABLE runs_anew (
    id INTEGER PRIMARY KEY,
    machine_id INTEGER NOT NULL REFERENCES machines (id),
    round_id INTEGER REFERENCES rounds (id),
    work TEXT NOT NULL CHECK (work IN ('survey', 'clean', 'put back', 'let go')),
    categories TEXT NOT NULL,
    held_picks TEXT,
    state TEXT NOT NULL,
    reason TEXT NOT NULL DEFAULT '',
    made_by TEXT NOT NULL,
    made_at INTEGER NOT NULL,
    due_at INTEGER NOT NULL,
    until_at INTEGER,
    lease TEXT,
    lease_until INTEGER,
    stop_by TEXT,
    started_at INTEGER,
    ended_at INTEGER,
    progress TEXT,
    survey_id INTEGER,
    second_look_id INTEGER,
    expected TEXT,
    removed TEXT,
    held TEXT,
    put_back TEXT,
    freed INTEGER,
    result TEXT
) STRICT;
INSERT INTO runs_anew
    (id, machine_id, round_id, work, categories, state, reason, made_by, made_at, due_at, until_at,
     lease, lease_until, stop_by, started_at, ended_at, progress, survey_id, second_look_id,
     expected, removed, freed, result)
SELECT id, machine_id, round_id, work, categories, state, reason, made_by, made_at, due_at, until_at,
       lease, lease_until, stop_by, started_at, ended_at, progress, survey_id, second_look_id,
       expected, removed, freed, result
FROM runs;
DROP TABLE runs;
ALTER TABLE runs_anew RENAME TO runs;
-- An occurrence of a round exists once for a machine, whatever is restarted.
CREATE UNIQUE INDEX runs_once ON runs (round_id, machine_id, due_at) WHERE round_id IS NOT NULL;
CREATE INDEX runs_by_machine ON runs (machine_id, id);
CREATE INDEX runs_open ON runs (machine_id, due_at)
    WHERE state IN ('waiting', 'offered', 'running');
CREATE INDEX runs_open_until ON runs (until_at) WHERE state = 'waiting' AND until_at IS NOT NULL;
CREATE INDEX runs_leased ON runs (lease_until) WHERE state IN ('offered', 'running');
CREATE INDEX runs_by_end ON runs (ended_at) WHERE ended_at IS NOT NULL;

-- What one run held of one category on one volume; sums are kept up as its things come and go.
CREATE TABLE holds (
    id INTEGER PRIMARY KEY,
    machine_id INTEGER NOT NULL REFERENCES machines (id),
    run_id INTEGER NOT NULL REFERENCES runs (id),
    batch TEXT NOT NULL,
    category TEXT NOT NULL,
    mount TEXT NOT NULL,
    held_at INTEGER NOT NULL,
    until_at INTEGER NOT NULL,
    held_count INTEGER NOT NULL DEFAULT 0,
    held_size INTEGER NOT NULL DEFAULT 0,
    back_count INTEGER NOT NULL DEFAULT 0,
    back_size INTEGER NOT NULL DEFAULT 0,
    gone_count INTEGER NOT NULL DEFAULT 0,
    gone_size INTEGER NOT NULL DEFAULT 0,
    UNIQUE (machine_id, batch)
) STRICT;
CREATE INDEX holds_by_machine ON holds (machine_id, id);
CREATE INDEX holds_by_run ON holds (run_id);
CREATE INDEX holds_open ON holds (machine_id, id) WHERE held_count > 0;

CREATE TABLE held_items (
    hold_id INTEGER NOT NULL REFERENCES holds (id),
    number INTEGER NOT NULL,
    place TEXT NOT NULL,
    path TEXT NOT NULL,
    size INTEGER NOT NULL,
    fate TEXT NOT NULL CHECK (fate IN ('held', 'put back', 'gone')),
    fate_at INTEGER,
    PRIMARY KEY (hold_id, number)
) STRICT, WITHOUT ROWID;

-- What should have gone and was left by one cleaning after the other.
CREATE TABLE left_again (
    machine_id INTEGER NOT NULL REFERENCES machines (id),
    category TEXT NOT NULL,
    place TEXT NOT NULL,
    path TEXT NOT NULL,
    reason TEXT NOT NULL,
    size INTEGER NOT NULL,
    times INTEGER NOT NULL,
    since INTEGER NOT NULL,
    run_id INTEGER NOT NULL,
    PRIMARY KEY (machine_id, category, place, path)
) STRICT, WITHOUT ROWID;
CREATE INDEX left_often ON left_again (machine_id) WHERE times >= 5;
