-- Clients, and people who left, can be forgotten: their words go, and the chain still holds.

-- What was erased, and which entry or deed says so.
CREATE TABLE erased_entries (
    entry INTEGER NOT NULL REFERENCES records (id),
    by_entry INTEGER NOT NULL REFERENCES records (id),
    PRIMARY KEY (entry, by_entry)
) STRICT, WITHOUT ROWID;
CREATE TABLE erased_deeds (
    deed INTEGER NOT NULL REFERENCES audit (id),
    by_deed INTEGER NOT NULL REFERENCES audit (id),
    PRIMARY KEY (deed, by_deed)
) STRICT, WITHOUT ROWID;
ALTER TABLE records ADD COLUMN erasure TEXT;

-- By what a client is told from another that gets the same number after a restore.
ALTER TABLE clients ADD COLUMN uid TEXT NOT NULL DEFAULT '';
UPDATE clients SET uid = 'first-' || id;
ALTER TABLE clients ADD COLUMN forgotten_at INTEGER;

CREATE TABLE forgettings (
    id INTEGER PRIMARY KEY AUTOINCREMENT,
    client_id INTEGER NOT NULL REFERENCES clients (id),
    asked_at INTEGER NOT NULL,
    asked_by TEXT NOT NULL,
    why TEXT NOT NULL,
    postponed_until INTEGER,
    with_backups INTEGER NOT NULL,
    state TEXT NOT NULL CHECK (state IN ('postponed', 'waiting', 'under way', 'done')),
    -- while it is under way: what is looked for everywhere
    words TEXT NOT NULL DEFAULT '[]',
    waits_for TEXT NOT NULL DEFAULT '',
    began_at INTEGER,
    ended_at INTEGER,
    entries INTEGER NOT NULL DEFAULT 0
) STRICT;
CREATE UNIQUE INDEX forgettings_not_done ON forgettings (client_id) WHERE state <> 'done';

-- Keys of agents whose machines retired: those of the forgotten are told to forget.
CREATE TABLE left_agents (
    key_hash BLOB PRIMARY KEY,
    machine_id INTEGER NOT NULL REFERENCES machines (id),
    left_at INTEGER NOT NULL,
    told_at INTEGER
) STRICT, WITHOUT ROWID;

-- The record and the audit are append-only, but for words of what an entry or a deed erases.
DROP TRIGGER records_are_not_changed;
CREATE TRIGGER records_are_not_changed BEFORE UPDATE ON records
WHEN NOT EXISTS (SELECT 1 FROM erased_entries e WHERE e.entry = old.id)
  OR (new.id, new.machine_id, new.at, new.kind, new.previous, new.digest)
     IS NOT (old.id, old.machine_id, old.at, old.kind, old.previous, old.digest)
  OR new.hashed IS NOT old.hashed OR new.erasure IS NOT old.erasure
  OR new.text NOT IN ('', old.text) OR new.who NOT IN ('', old.who)
BEGIN SELECT RAISE(ABORT, 'maintenance records are append-only'); END;
DROP TRIGGER record_parts_are_not_changed;
CREATE TRIGGER record_parts_are_not_changed BEFORE UPDATE ON record_parts
WHEN NOT EXISTS (SELECT 1 FROM erased_entries e WHERE e.entry = old.entry)
  OR new.entry <> old.entry
  OR (new.text IS NOT NULL AND new.text IS NOT old.text)
  OR (new.who IS NOT NULL AND new.who IS NOT old.who)
BEGIN SELECT RAISE(ABORT, 'maintenance records are append-only'); END;
DROP TRIGGER audit_is_not_changed;
CREATE TRIGGER audit_is_not_changed BEFORE UPDATE ON audit
WHEN NOT EXISTS (SELECT 1 FROM erased_deeds e WHERE e.deed = old.id)
  OR (new.id, new.at, new.deed, new.digest) IS NOT (old.id, old.at, old.deed, old.digest)
  OR (new.hashed IS NOT NULL AND new.hashed IS NOT old.hashed)
  OR new.who NOT IN ('', old.who) OR new.subject NOT IN ('', old.subject)
BEGIN SELECT RAISE(ABORT, 'the audit is append-only'); END;
DROP TRIGGER audit_parts_are_not_changed;
CREATE TRIGGER audit_parts_are_not_changed BEFORE UPDATE ON audit_parts
WHEN NOT EXISTS (SELECT 1 FROM erased_deeds e WHERE e.deed = old.deed)
  OR new.deed <> old.deed
  OR (new.who IS NOT NULL AND new.who IS NOT old.who)
  OR (new.subject IS NOT NULL AND new.subject IS NOT old.subject)
BEGIN SELECT RAISE(ABORT, 'the audit is append-only'); END;
DROP TRIGGER attachments_are_not_removed;
CREATE TRIGGER attachments_are_not_removed BEFORE DELETE ON attachments
WHEN old.entry IS NOT NULL
 AND NOT EXISTS (SELECT 1 FROM erased_entries e WHERE e.entry = old.entry)
BEGIN SELECT RAISE(ABORT, 'what belongs to an entry is append-only'); END;

-- An entry whose words were erased is found by its kind and month alone, whatever its machine and
-- client are called.
DROP TRIGGER records_are_searched;
DROP TRIGGER machines_leave_their_words;
DROP TRIGGER machines_take_their_words;
DROP TRIGGER clients_leave_their_words;
DROP TRIGGER clients_take_their_words;
DROP VIEW record_words;
CREATE VIEW record_words AS
    SELECT r.id, r.machine_id, coalesce(iif(r.hashed IS NULL, r.text, p.text), '') AS text,
           coalesce(iif(r.hashed IS NULL, r.who, p.who), '') AS who,
           iif(coalesce(iif(r.hashed IS NULL, r.text, p.text), '') = '', '', m.tag) AS tag,
           iif(coalesce(iif(r.hashed IS NULL, r.text, p.text), '') = '', '', c.name) AS client,
           coalesce(p.folded, '') AS folded,
           r.kind || ' m' || strftime('%Y%m', r.at, 'unixepoch') AS marks
    FROM records r
    LEFT JOIN record_parts p ON p.entry = r.id
    JOIN machines m ON m.id = r.machine_id
    JOIN clients c ON c.id = m.client_id;
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
    FROM record_words WHERE machine_id = old.id AND text <> '';
END;
CREATE TRIGGER machines_take_their_words AFTER UPDATE OF tag, client_id ON machines
WHEN old.tag <> new.tag OR old.client_id <> new.client_id
BEGIN
    INSERT INTO records_text (rowid, text, who, tag, client, folded, marks)
    SELECT id, text, who, tag, client, folded, marks
    FROM record_words WHERE machine_id = new.id AND text <> '';
END;
CREATE TRIGGER clients_leave_their_words BEFORE UPDATE OF name ON clients
WHEN old.name <> new.name
BEGIN
    INSERT INTO records_text (records_text, rowid, text, who, tag, client, folded, marks)
    SELECT 'delete', w.id, w.text, w.who, w.tag, w.client, w.folded, w.marks
    FROM machines m JOIN record_words w ON w.machine_id = m.id
    WHERE m.client_id = old.id AND w.text <> '';
END;
CREATE TRIGGER clients_take_their_words AFTER UPDATE OF name ON clients
WHEN old.name <> new.name
BEGIN
    INSERT INTO records_text (rowid, text, who, tag, client, folded, marks)
    SELECT w.id, w.text, w.who, w.tag, w.client, w.folded, w.marks
    FROM machines m JOIN record_words w ON w.machine_id = m.id
    WHERE m.client_id = new.id AND w.text <> '';
END;
