-- What the index of words knows besides: kind and month of an entry.
DROP TRIGGER records_are_searched;
DROP TRIGGER machines_leave_their_words;
DROP TRIGGER machines_take_their_words;
DROP TRIGGER clients_leave_their_words;
DROP TRIGGER clients_take_their_words;
DROP TABLE records_text;
DROP VIEW record_words;
CREATE VIEW record_words AS
    SELECT r.id, r.machine_id, coalesce(p.text, r.text) AS text, coalesce(p.who, r.who) AS who,
           m.tag, c.name AS client, coalesce(p.folded, '') AS folded,
           r.kind || ' m' || strftime('%Y%m', r.at, 'unixepoch') AS marks
    FROM records r
    LEFT JOIN record_parts p ON p.entry = r.id
    JOIN machines m ON m.id = r.machine_id
    JOIN clients c ON c.id = m.client_id;
CREATE VIRTUAL TABLE records_text USING fts5 (
    text, who, tag, client, folded, marks, content='record_words', content_rowid='id',
    tokenize='unicode61 remove_diacritics 2', prefix='2 3'
);
INSERT INTO records_text (records_text) VALUES ('rebuild');
CREATE TRIGGER records_are_searched AFTER INSERT ON record_parts
BEGIN
    INSERT INTO records_text (rowid, text, who, tag, client, folded, marks)
    SELECT id, text, who, tag, client, folded, marks FROM record_words WHERE id = new.entry;
END;
CREATE TRIGGER machines_leave_their_words BEFORE UPDATE OF tag, client_id ON machines
WHEN old.tag <> new.tag OR old.client_id <> new.client_id
BEGIN
    INSERT INTO records_text (records_text, rowid, text, who, tag, client, folded, marks)
    SELECT 'delete', id, text, who, tag, client, folded, marks
    FROM record_words WHERE machine_id = old.id;
END;
CREATE TRIGGER machines_take_their_words AFTER UPDATE OF tag, client_id ON machines
WHEN old.tag <> new.tag OR old.client_id <> new.client_id
BEGIN
    INSERT INTO records_text (rowid, text, who, tag, client, folded, marks)
    SELECT id, text, who, tag, client, folded, marks FROM record_words WHERE machine_id = new.id;
END;
CREATE TRIGGER clients_leave_their_words BEFORE UPDATE OF name ON clients
WHEN old.name <> new.name
BEGIN
    INSERT INTO records_text (records_text, rowid, text, who, tag, client, folded, marks)
    SELECT 'delete', w.id, w.text, w.who, w.tag, w.client, w.folded, w.marks
    FROM machines m JOIN record_words w ON w.machine_id = m.id WHERE m.client_id = old.id;
END;
CREATE TRIGGER clients_take_their_words AFTER UPDATE OF name ON clients
WHEN old.name <> new.name
BEGIN
    INSERT INTO records_text (rowid, text, who, tag, client, folded, marks)
    SELECT w.id, w.text, w.who, w.tag, w.client, w.folded, w.marks
    FROM machines m JOIN record_words w ON w.machine_id = m.id WHERE m.client_id = new.id;
END;

-- Files that are or were held, or were left by a cleaning, by name: "what became of it?"
CREATE TABLE named_files (
    id INTEGER PRIMARY KEY,
    machine_id INTEGER NOT NULL REFERENCES machines (id),
    -- of a hold: its own row says where it was and what became of it
    hold_id INTEGER,
    number INTEGER,
    -- left by a run: what it was, and why
    run_id INTEGER,
    category TEXT NOT NULL DEFAULT '',
    place TEXT NOT NULL DEFAULT '',
    path TEXT NOT NULL DEFAULT '',
    size INTEGER NOT NULL DEFAULT 0,
    why TEXT NOT NULL DEFAULT ''
) STRICT;
CREATE INDEX named_files_by_machine ON named_files (machine_id, id);
CREATE INDEX named_files_by_hold ON named_files (hold_id) WHERE hold_id IS NOT NULL;
CREATE INDEX named_files_by_run ON named_files (run_id) WHERE run_id IS NOT NULL;

CREATE VIEW file_words AS
    SELECT n.id, coalesce(h.path, n.path) AS path, coalesce(h.place, n.place) AS place
    FROM named_files n LEFT JOIN held_items h ON h.hold_id = n.hold_id AND h.number = n.number;
CREATE VIRTUAL TABLE files_text USING fts5 (
    path, place, content='file_words', content_rowid='id',
    tokenize='unicode61 remove_diacritics 2', prefix='3'
);
INSERT INTO named_files (machine_id, hold_id, number)
    SELECT o.machine_id, h.hold_id, h.number FROM held_items h JOIN holds o ON o.id = h.hold_id;
INSERT INTO named_files (machine_id, run_id, category, place, path, size, why)
    SELECT r.machine_id, r.id, l.value ->> 'category', l.value ->> 'place', l.value ->> 'path',
           l.value ->> 'size', l.value ->> 'reason'
    FROM runs r, json_each(r.result, '$.left') l
    WHERE r.result IS NOT NULL AND r.ended_at IS NOT NULL;
INSERT INTO files_text (files_text) VALUES ('rebuild');

CREATE TRIGGER held_are_named AFTER INSERT ON held_items
BEGIN
    INSERT INTO named_files (machine_id, hold_id, number)
    SELECT machine_id, new.hold_id, new.number FROM holds WHERE id = new.hold_id;
END;
CREATE TRIGGER left_are_named AFTER UPDATE OF ended_at ON runs
WHEN old.ended_at IS NULL AND new.ended_at IS NOT NULL AND new.result IS NOT NULL
BEGIN
    INSERT INTO named_files (machine_id, run_id, category, place, path, size, why)
    SELECT new.machine_id, new.id, l.value ->> 'category', l.value ->> 'place',
           l.value ->> 'path', l.value ->> 'size', l.value ->> 'reason'
    FROM json_each(new.result, '$.left') l;
END;
CREATE TRIGGER files_are_searched AFTER INSERT ON named_files
BEGIN
    INSERT INTO files_text (rowid, path, place)
    SELECT id, path, place FROM file_words WHERE id = new.id;
END;

-- What programs are called, each name once: few, while machines have many.
CREATE TABLE program_names (name TEXT PRIMARY KEY) STRICT, WITHOUT ROWID;
INSERT INTO program_names SELECT DISTINCT name FROM installed;
CREATE TRIGGER programs_are_named AFTER INSERT ON installed
BEGIN
    INSERT OR IGNORE INTO program_names VALUES (new.name);
END;
CREATE INDEX installed_exactly_by_name ON installed (name);
