-- Entries are found by the machine's tag and the client's name as well, by the beginning of a word,
-- and by other spellings of letters (ue for an umlaut).
ALTER TABLE record_parts ADD COLUMN folded TEXT NOT NULL DEFAULT '';

DROP TRIGGER records_are_searched;
DROP TABLE records_text;
DROP VIEW record_words;
CREATE VIEW record_words AS
    SELECT r.id, r.machine_id, coalesce(p.text, r.text) AS text, coalesce(p.who, r.who) AS who,
           m.tag, c.name AS client, coalesce(p.folded, '') AS folded
    FROM records r
    LEFT JOIN record_parts p ON p.entry = r.id
    JOIN machines m ON m.id = r.machine_id
    JOIN clients c ON c.id = m.client_id;
CREATE VIRTUAL TABLE records_text USING fts5 (
    text, who, tag, client, folded, content='record_words', content_rowid='id',
    tokenize='unicode61 remove_diacritics 2', prefix='2 3'
);
INSERT INTO records_text (records_text) VALUES ('rebuild');
CREATE TRIGGER records_are_searched AFTER INSERT ON record_parts
BEGIN
    INSERT INTO records_text (rowid, text, who, tag, client, folded)
    SELECT id, text, who, tag, client, folded FROM record_words WHERE id = new.entry;
END;

-- A machine or a client that is called otherwise is found by its new name, and no longer by the old.
CREATE TRIGGER machines_leave_their_words BEFORE UPDATE OF tag, client_id ON machines
WHEN old.tag <> new.tag OR old.client_id <> new.client_id
BEGIN
    INSERT INTO records_text (records_text, rowid, text, who, tag, client, folded)
    SELECT 'delete', id, text, who, tag, client, folded FROM record_words WHERE machine_id = old.id;
END;
CREATE TRIGGER machines_take_their_words AFTER UPDATE OF tag, client_id ON machines
WHEN old.tag <> new.tag OR old.client_id <> new.client_id
BEGIN
    INSERT INTO records_text (rowid, text, who, tag, client, folded)
    SELECT id, text, who, tag, client, folded FROM record_words WHERE machine_id = new.id;
END;
CREATE TRIGGER clients_leave_their_words BEFORE UPDATE OF name ON clients
WHEN old.name <> new.name
BEGIN
    INSERT INTO records_text (records_text, rowid, text, who, tag, client, folded)
    SELECT 'delete', w.id, w.text, w.who, w.tag, w.client, w.folded
    FROM machines m JOIN record_words w ON w.machine_id = m.id WHERE m.client_id = old.id;
END;
CREATE TRIGGER clients_take_their_words AFTER UPDATE OF name ON clients
WHEN old.name <> new.name
BEGIN
    INSERT INTO records_text (rowid, text, who, tag, client, folded)
    SELECT w.id, w.text, w.who, w.tag, w.client, w.folded
    FROM machines m JOIN record_words w ON w.machine_id = m.id WHERE m.client_id = new.id;
END;
