-- How long names are kept: of files, in mails that went out, of people who left the shop.
CREATE TABLE keeping (
    id INTEGER PRIMARY KEY CHECK (id = 1),
    file_names_months INTEGER NOT NULL DEFAULT 24,
    notices_months INTEGER NOT NULL DEFAULT 24,
    -- none: their names stay
    staff_months INTEGER,
    swept_at INTEGER NOT NULL DEFAULT 0,
    -- files' names from before are gone already
    files_until INTEGER NOT NULL DEFAULT 0,
    version INTEGER NOT NULL DEFAULT 1,
    changed_by TEXT NOT NULL DEFAULT '',
    changed_at INTEGER NOT NULL DEFAULT 0
) STRICT;
INSERT INTO keeping (id) VALUES (1);
CREATE INDEX held_items_by_fate ON held_items (fate_at) WHERE fate_at IS NOT NULL;
CREATE INDEX surveys_by_end ON surveys (ended_at);
ALTER TABLE people ADD COLUMN forgotten_at INTEGER;
