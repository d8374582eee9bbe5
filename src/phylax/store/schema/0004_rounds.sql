-- Routines and their versions, rounds with windows, occurrences, presence, calendar addresses.

CREATE TABLE routines (
    id INTEGER PRIMARY KEY,
    -- the key of one that came with Phylax; of the shop's own ones NULL
    shipped TEXT UNIQUE,
    name TEXT NOT NULL UNIQUE COLLATE NOCASE,
    ended INTEGER NOT NULL DEFAULT 0,
    version INTEGER NOT NULL DEFAULT 1,
    changed_by TEXT NOT NULL,
    changed_at INTEGER NOT NULL
) STRICT;

-- Every version stays: a run shows the one it used.
CREATE TABLE routine_versions (
    routine_id INTEGER NOT NULL REFERENCES routines (id),
    version INTEGER NOT NULL,
    name TEXT NOT NULL,
    note TEXT NOT NULL,
    steps TEXT NOT NULL,
    put_right TEXT NOT NULL,
    changed_by TEXT NOT NULL,
    changed_at INTEGER NOT NULL,
    PRIMARY KEY (routine_id, version)
) STRICT, WITHOUT ROWID;

-- The last lengths of a routine on a machine, in seconds.
CREATE TABLE routine_lengths (
    routine_id INTEGER NOT NULL REFERENCES routines (id),
    machine_id INTEGER NOT NULL REFERENCES machines (id),
    recent TEXT NOT NULL,
    PRIMARY KEY (routine_id, machine_id)
) STRICT, WITHOUT ROWID;

-- Rounds named their categories themselves; each becomes a routine of its own.
INSERT INTO routines (name, changed_by, changed_at)
SELECT name, changed_by, changed_at FROM rounds ORDER BY id;
INSERT INTO routine_versions
SELECT r.id, 1, r.name, '', json_array(
           json_object('kind', 'survey'),
           json_object('kind', 'clean', 'categories', json(o.categories)),
           json_object('kind', 'second look')),
       '[]', r.changed_by, r.changed_at
FROM routines r JOIN rounds o ON o.name = r.name;

ALTER TABLE clients ADD COLUMN zone TEXT;
ALTER TABLE clients ADD COLUMN at_once INTEGER;
-- when the scheduler was last awake, and the stretches in which it was not
ALTER TABLE shop ADD COLUMN awake_at INTEGER;
ALTER TABLE shop ADD COLUMN uid TEXT NOT NULL DEFAULT '';
UPDATE shop SET uid = lower(hex(randomblob(16)));
CREATE TABLE outages (
    began_at INTEGER PRIMARY KEY,
    ended_at INTEGER NOT NULL
) STRICT;

CREATE TABLE rounds_anew (
    id INTEGER PRIMARY KEY,
    name TEXT NOT NULL UNIQUE COLLATE NOCASE,
    routine_id INTEGER NOT NULL REFERENCES routines (id),
    plan TEXT NOT NULL,
    ended INTEGER NOT NULL DEFAULT 0,
    version INTEGER NOT NULL DEFAULT 1,
    changed_by TEXT NOT NULL,
    changed_at INTEGER NOT NULL
) STRICT;
INSERT INTO rounds_anew
SELECT o.id, o.name, r.id,
       json_object('name', o.name, 'routine_id', r.id, 'recurrence', o.recurrence, 'at', o.at,
                   'starts_on', o.starts_on, 'catch_up', 'PT' || o.catch_up || 'S',
                   'spread', 'PT0S', 'on_closing_days', 'run',
                   'machine_ids', (SELECT json_group_array(machine_id) FROM round_machines
                                   WHERE round_id = o.id),
                   'paused', json(iif(o.paused, 'true', 'false'))),
       o.ended, o.version, o.changed_by, o.changed_at
FROM rounds o JOIN routines r ON r.name = o.name;

-- Which machines belong to a round now, kept up as machines and rounds change, and its next time
-- on each: when the run is made, and the time that names the occurrence.
CREATE TABLE round_machines_anew (
    round_id INTEGER NOT NULL REFERENCES rounds (id),
    machine_id INTEGER NOT NULL REFERENCES machines (id),
    next_at INTEGER,
    occurs_at INTEGER,
    PRIMARY KEY (round_id, machine_id)
) STRICT, WITHOUT ROWID;
INSERT INTO round_machines_anew
SELECT m.round_id, m.machine_id, o.next_at, o.next_at
FROM round_machines m JOIN rounds o ON o.id = m.round_id WHERE NOT o.ended;
DROP TABLE round_machines;
ALTER TABLE round_machines_anew RENAME TO round_machines;
DROP TABLE rounds;
ALTER TABLE rounds_anew RENAME TO rounds;
CREATE INDEX rounds_by_routine ON rounds (routine_id);
CREATE INDEX rounds_ended ON rounds (changed_at) WHERE ended;
CREATE INDEX round_machines_by_machine ON round_machines (machine_id);
CREATE INDEX round_machines_by_next ON round_machines (next_at) WHERE next_at IS NOT NULL;

-- What a round was before it was changed: calendars call off what they had announced.
CREATE TABLE round_versions (
    round_id INTEGER NOT NULL REFERENCES rounds (id),
    version INTEGER NOT NULL,
    plan TEXT NOT NULL,
    until_at INTEGER NOT NULL,
    PRIMARY KEY (round_id, version)
) STRICT, WITHOUT ROWID;
CREATE INDEX round_versions_by_end ON round_versions (until_at);

-- A next time that was skipped or held back for one machine.
CREATE TABLE postponed (
    round_id INTEGER NOT NULL REFERENCES rounds (id),
    machine_id INTEGER NOT NULL REFERENCES machines (id),
    occurs_at INTEGER NOT NULL,
    until_at INTEGER,
    word TEXT NOT NULL,
    who TEXT NOT NULL,
    at INTEGER NOT NULL,
    PRIMARY KEY (round_id, machine_id, occurs_at)
) STRICT, WITHOUT ROWID;

CREATE TABLE closing_days (
    id INTEGER PRIMARY KEY,
    client_id INTEGER REFERENCES clients (id),
    first TEXT NOT NULL,
    last TEXT NOT NULL,
    name TEXT NOT NULL,
    added_by TEXT NOT NULL,
    added_at INTEGER NOT NULL
) STRICT;
CREATE INDEX closing_days_by_client ON closing_days (client_id);

-- The hours in which a machine was heard of: a week of 168 bits, weeks counted from the epoch.
CREATE TABLE presence (
    machine_id INTEGER NOT NULL REFERENCES machines (id),
    week INTEGER NOT NULL,
    hours BLOB NOT NULL,
    PRIMARY KEY (machine_id, week)
) STRICT, WITHOUT ROWID;

-- When machines slept, as they told on waking.
CREATE TABLE sleeps (
    machine_id INTEGER NOT NULL REFERENCES machines (id),
    began_at INTEGER NOT NULL,
    ended_at INTEGER NOT NULL,
    PRIMARY KEY (machine_id, began_at)
) STRICT, WITHOUT ROWID;

-- Runs anew: they carry out a routine, in one of its versions; when they may start, what held
-- them up, and whether a person's step comes next, so that the agent has nothing to do meanwhile.
CREATE TABLE runs_anew (
    id INTEGER PRIMARY KEY,
    machine_id INTEGER NOT NULL REFERENCES machines (id),
    round_id INTEGER REFERENCES rounds (id),
    routine_id INTEGER REFERENCES routines (id),
    routine_version INTEGER,
    work TEXT NOT NULL CHECK (work IN ('survey', 'clean', 'put back', 'let go', 'by hand')),
    categories TEXT NOT NULL,
    held_picks TEXT,
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
    (id, machine_id, round_id, routine_id, routine_version, work, categories, held_picks, state,
     reason, made_by, made_at, occurs_at, due_at, closes_at, until_at, lease, lease_until, stop_by,
     started_at, ended_at, progress, survey_id, second_look_id, expected, removed, held, put_back,
     freed, result)
SELECT id, machine_id, round_id,
       (SELECT routine_id FROM rounds WHERE rounds.id = runs.round_id), iif(round_id, 1, NULL),
       work, categories, held_picks, state, reason, made_by, made_at,
       iif(round_id, due_at, NULL), due_at, until_at, until_at, lease, lease_until, stop_by,
       started_at, ended_at, progress, survey_id, second_look_id, expected, removed, held, put_back,
       freed, result
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

CREATE TABLE run_steps (
    run_id INTEGER NOT NULL REFERENCES runs (id),
    number INTEGER NOT NULL,
    kind TEXT NOT NULL,
    categories TEXT NOT NULL,
    title TEXT NOT NULL,
    text TEXT NOT NULL,
    state TEXT NOT NULL DEFAULT 'to do',
    at INTEGER,
    by TEXT NOT NULL DEFAULT '',
    word TEXT NOT NULL DEFAULT '',
    PRIMARY KEY (run_id, number)
) STRICT, WITHOUT ROWID;

-- Addresses from which calendars read; the address itself is not kept.
CREATE TABLE calendars (
    id INTEGER PRIMARY KEY,
    hash BLOB NOT NULL UNIQUE,
    about TEXT NOT NULL CHECK (about IN ('shop', 'person', 'client')),
    subject_id INTEGER NOT NULL,
    name TEXT NOT NULL,
    made_by TEXT NOT NULL,
    made_at INTEGER NOT NULL,
    read_at INTEGER,
    withdrawn_at INTEGER
) STRICT;
