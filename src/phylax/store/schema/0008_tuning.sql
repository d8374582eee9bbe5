-- Tune-up: what machines' settings are, what the shop knows of programs, what clients answered.
CREATE TABLE settings_looks (
    machine_id INTEGER PRIMARY KEY REFERENCES machines (id) ON DELETE CASCADE,
    taken_at INTEGER NOT NULL,
    unread TEXT NOT NULL
) STRICT;

-- A program as it was read, once however many machines have it so.
CREATE TABLE programs (
    id INTEGER PRIMARY KEY,
    key TEXT NOT NULL,
    read_as TEXT NOT NULL UNIQUE
) STRICT;

CREATE TABLE machine_programs (
    machine_id INTEGER NOT NULL REFERENCES machines (id) ON DELETE CASCADE,
    program_id INTEGER NOT NULL REFERENCES programs (id),
    PRIMARY KEY (machine_id, program_id)
) STRICT, WITHOUT ROWID;
CREATE INDEX machine_programs_by_program ON machine_programs (program_id);

CREATE TABLE known_programs (
    id INTEGER PRIMARY KEY,
    edit TEXT NOT NULL,
    version INTEGER NOT NULL DEFAULT 1,
    written_by TEXT NOT NULL,
    written_at INTEGER NOT NULL
) STRICT;

CREATE TABLE answers (
    scope TEXT NOT NULL CHECK (scope IN ('client', 'machine')),
    subject_id INTEGER NOT NULL,
    question TEXT NOT NULL,
    answer TEXT NOT NULL CHECK (answer IN ('yes', 'no')),
    word TEXT NOT NULL,
    who TEXT NOT NULL,
    at INTEGER NOT NULL,
    PRIMARY KEY (scope, subject_id, question)
) STRICT, WITHOUT ROWID;

CREATE TABLE program_rules (
    scope TEXT NOT NULL CHECK (scope IN ('shop', 'client', 'machine')),
    subject_id INTEGER NOT NULL,
    program TEXT NOT NULL,
    rule TEXT NOT NULL,
    version INTEGER NOT NULL DEFAULT 1,
    changed_by TEXT NOT NULL,
    changed_at INTEGER NOT NULL,
    PRIMARY KEY (scope, subject_id, program)
) STRICT, WITHOUT ROWID;

-- What was changed on machines, with what it takes to put it back: the machine's own name of it.
CREATE TABLE changes (
    number INTEGER PRIMARY KEY,
    machine_id INTEGER NOT NULL REFERENCES machines (id),
    run_id INTEGER NOT NULL REFERENCES runs (id),
    id TEXT NOT NULL,
    program TEXT NOT NULL,
    name TEXT NOT NULL,
    before TEXT NOT NULL,
    after TEXT NOT NULL,
    at INTEGER NOT NULL,
    who TEXT NOT NULL,
    state TEXT NOT NULL CHECK (state IN ('made', 'put back', 'altered since')),
    ended_at INTEGER,
    ended_by TEXT NOT NULL DEFAULT '',
    word TEXT NOT NULL DEFAULT '',
    UNIQUE (machine_id, id)
) STRICT;
CREATE INDEX changes_by_run ON changes (run_id);

-- Runs anew: their work has more kinds. Foreign keys are off while a schema file is applied.
CREATE TABLE runs_anew (
    id INTEGER PRIMARY KEY,
    machine_id INTEGER NOT NULL REFERENCES machines (id),
    round_id INTEGER REFERENCES rounds (id),
    routine_id INTEGER REFERENCES routines (id),
    routine_version INTEGER,
    work TEXT NOT NULL CHECK (work IN
        ('survey', 'clean', 'put back', 'let go', 'by hand', 'change settings',
         'put settings back')),
    categories TEXT NOT NULL,
    held_picks TEXT,
    settings TEXT,
    state TEXT NOT NULL,
    reason TEXT NOT NULL DEFAULT '',
    cause TEXT,
    made_by TEXT NOT NULL,
    made_at INTEGER NOT NULL,
    occurs_at INTEGER,
    due_at INTEGER NOT NULL,
    closes_at INTEGER,
    until_at INTEGER,
    stretches TEXT,
    takes INTEGER NOT NULL DEFAULT 0,
    held_up TEXT,
    at_hand INTEGER NOT NULL DEFAULT 0,
    on_bench INTEGER NOT NULL DEFAULT 0,
    lease TEXT,
    lease_until INTEGER,
    stop_by TEXT,
    started_at INTEGER,
    ended_at INTEGER,
    worked INTEGER NOT NULL DEFAULT 0,
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
    (
    id, machine_id, round_id, routine_id, routine_version, work, categories, held_picks, state,
    reason, cause, made_by, made_at, occurs_at, due_at, closes_at, until_at, stretches, takes,
    held_up, at_hand, on_bench, lease, lease_until, stop_by, started_at, ended_at, worked,
    progress, survey_id, second_look_id, expected, removed, held, put_back, freed, result
    )
SELECT
    id, machine_id, round_id, routine_id, routine_version, work, categories, held_picks, state,
    reason, cause, made_by, made_at, occurs_at, due_at, closes_at, until_at, stretches, takes,
    held_up, at_hand, on_bench, lease, lease_until, stop_by, started_at, ended_at, worked,
    progress, survey_id, second_look_id, expected, removed, held, put_back, freed, result
FROM runs;
DROP TABLE runs;
ALTER TABLE runs_anew RENAME TO runs;
-- An occurrence of a round exists once for a machine, whatever is restarted.
CREATE UNIQUE INDEX runs_once ON runs (round_id, machine_id, occurs_at)
    WHERE round_id IS NOT NULL;
CREATE INDEX runs_by_machine ON runs (machine_id, id);
CREATE INDEX runs_open ON runs (machine_id, due_at)
    WHERE state IN ('waiting', 'offered', 'running');
CREATE INDEX runs_closing ON runs (closes_at) WHERE state = 'waiting' AND closes_at IS NOT NULL;
CREATE INDEX runs_waiting ON runs (due_at) WHERE state = 'waiting';
CREATE INDEX runs_by_round ON runs (round_id, id) WHERE round_id IS NOT NULL;
CREATE INDEX runs_leased ON runs (lease_until) WHERE state IN ('offered', 'running');
CREATE INDEX runs_by_end ON runs (ended_at) WHERE ended_at IS NOT NULL;
CREATE INDEX runs_by_occurrence ON runs (occurs_at) WHERE round_id IS NOT NULL;
CREATE INDEX runs_presumed_off ON runs (machine_id, until_at) WHERE cause = 'off';
CREATE INDEX runs_open_of_round ON runs (round_id, machine_id)
    WHERE round_id IS NOT NULL AND state IN ('waiting', 'offered', 'running');
CREATE INDEX runs_by_routine ON runs (routine_id, routine_version, id)
    WHERE routine_id IS NOT NULL;
