-- One change on many machines may be of a setting of one value as well.

ALTER TABLE shared_changes ADD COLUMN setting TEXT NOT NULL DEFAULT 'runs-by-itself';
-- JSON, where the setting has one value; `intent` is empty then.
ALTER TABLE shared_changes ADD COLUMN value TEXT;

-- Runs anew: which kinds of work there are is the code's to know, and more are coming. Foreign keys
-- are off while a schema file is applied.
CREATE TABLE runs_anew (
    id INTEGER PRIMARY KEY,
    machine_id INTEGER NOT NULL REFERENCES machines (id),
    round_id INTEGER REFERENCES rounds (id),
    routine_id INTEGER REFERENCES routines (id),
    routine_version INTEGER,
    work TEXT NOT NULL,
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
    id, machine_id, round_id, routine_id, routine_version, work, categories, held_picks, settings,
    state,
    reason, cause, made_by, made_at, occurs_at, due_at, closes_at, until_at, stretches, takes,
    held_up, at_hand, on_bench, lease, lease_until, stop_by, started_at, ended_at, worked,
    progress, survey_id, second_look_id, expected, removed, held, put_back, freed, result
    )
SELECT
    id, machine_id, round_id, routine_id, routine_version, work, categories, held_picks, settings,
    state,
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

CREATE INDEX shared_changes_by_run ON shared_change_machines (run_id) WHERE run_id IS NOT NULL;
