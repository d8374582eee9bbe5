-- Parts that a visit waits for.
CREATE TABLE ordered_parts (
    id INTEGER PRIMARY KEY,
    visit_id INTEGER NOT NULL REFERENCES visits (id),
    what TEXT NOT NULL,
    from_whom TEXT NOT NULL,
    expected TEXT,
    state TEXT NOT NULL DEFAULT 'ordered' CHECK (state IN ('ordered', 'arrived', 'called off')),
    ordered_by TEXT NOT NULL,
    ordered_at INTEGER NOT NULL,
    ended_by TEXT NOT NULL DEFAULT '',
    ended_at INTEGER
) STRICT;
CREATE INDEX ordered_parts_by_visit ON ordered_parts (visit_id, id);
CREATE INDEX ordered_parts_waiting ON ordered_parts (expected) WHERE state = 'ordered';

-- Since when a machine can be fetched, who is told by mail, and how often they were reminded.
ALTER TABLE visits ADD COLUMN ready_at INTEGER;
ALTER TABLE visits ADD COLUMN ready_mail TEXT NOT NULL DEFAULT '';
ALTER TABLE visits ADD COLUMN reminded INTEGER NOT NULL DEFAULT 0;
CREATE INDEX visits_ready ON visits (ready_at) WHERE ready_at IS NOT NULL AND closed_at IS NULL;

-- What the client left to sign in with: closed by a key that is in no backup, gone at hand-over.
CREATE TABLE sealed_notes (
    id INTEGER PRIMARY KEY,
    visit_id INTEGER NOT NULL REFERENCES visits (id),
    title TEXT NOT NULL,
    sealed TEXT NOT NULL,
    made_by TEXT NOT NULL,
    made_at INTEGER NOT NULL,
    destroyed_at INTEGER
) STRICT;
CREATE INDEX sealed_notes_by_visit ON sealed_notes (visit_id, id);
CREATE TABLE sealed_note_readings (
    note_id INTEGER NOT NULL REFERENCES sealed_notes (id),
    who TEXT NOT NULL,
    at INTEGER NOT NULL
) STRICT;
CREATE INDEX sealed_note_readings_of_note ON sealed_note_readings (note_id);

-- Until when a client who declined is not asked again.
ALTER TABLE advice ADD COLUMN again_on TEXT;
