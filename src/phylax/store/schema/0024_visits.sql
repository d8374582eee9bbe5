-- A machine comes to the bench, a technician goes to it, or it is worked on from afar.
CREATE TABLE visits (
    id INTEGER PRIMARY KEY,
    machine_id INTEGER NOT NULL REFERENCES machines (id),
    kind TEXT NOT NULL,
    said TEXT NOT NULL,
    condition TEXT NOT NULL,
    came_along TEXT NOT NULL,
    wanted_by TEXT,
    ask_above INTEGER,
    loan TEXT NOT NULL,
    guaranteed_until TEXT,
    back_from INTEGER REFERENCES visits (id),
    place TEXT NOT NULL,
    shelf TEXT NOT NULL,
    whose TEXT NOT NULL,
    whom INTEGER REFERENCES people (id),
    todo TEXT NOT NULL,
    until TEXT,
    moved_at INTEGER NOT NULL,
    opened_by TEXT NOT NULL,
    opened_at INTEGER NOT NULL,
    closed_by TEXT NOT NULL DEFAULT '',
    closed_at INTEGER,
    outcome TEXT,
    version INTEGER NOT NULL DEFAULT 1,
    changed_by TEXT NOT NULL,
    changed_at INTEGER NOT NULL
) STRICT;
CREATE UNIQUE INDEX visits_one_open ON visits (machine_id) WHERE closed_at IS NULL;
CREATE INDEX visits_by_machine ON visits (machine_id, id);

-- What is done or written meanwhile belongs to the visit.
ALTER TABLE records ADD COLUMN visit_id INTEGER REFERENCES visits (id);
CREATE INDEX records_by_visit ON records (visit_id, id) WHERE visit_id IS NOT NULL;
