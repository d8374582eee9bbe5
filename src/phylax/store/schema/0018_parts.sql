-- Entries and deeds of form 2: what may be about a person enters the chain as a salted digest, and
-- lies in a table of its own, from which it can be forgotten. Older ones stay as they are.
ALTER TABLE records ADD COLUMN hashed TEXT;
CREATE TABLE record_parts (
    entry INTEGER PRIMARY KEY REFERENCES records (id),
    who TEXT,
    who_salt BLOB,
    text TEXT,
    text_salt BLOB
) STRICT;
CREATE INDEX record_parts_by_author ON record_parts (who, entry);

CREATE TABLE audit_parts (
    deed INTEGER PRIMARY KEY REFERENCES audit (id),
    who TEXT,
    who_salt BLOB,
    subject TEXT,
    subject_salt BLOB,
    before TEXT,
    before_salt BLOB,
    after TEXT,
    after_salt BLOB
) STRICT;

CREATE TRIGGER record_parts_are_not_changed BEFORE UPDATE ON record_parts
BEGIN SELECT RAISE(ABORT, 'maintenance records are append-only'); END;
CREATE TRIGGER record_parts_are_not_removed BEFORE DELETE ON record_parts
BEGIN SELECT RAISE(ABORT, 'maintenance records are append-only'); END;
CREATE TRIGGER audit_parts_are_not_changed BEFORE UPDATE ON audit_parts
BEGIN SELECT RAISE(ABORT, 'the audit is append-only'); END;
CREATE TRIGGER audit_parts_are_not_removed BEFORE DELETE ON audit_parts
BEGIN SELECT RAISE(ABORT, 'the audit is append-only'); END;

CREATE VIEW record_words AS
    SELECT r.id, coalesce(p.text, r.text) AS text, coalesce(p.who, r.who) AS who
    FROM records r LEFT JOIN record_parts p ON p.entry = r.id;

-- The index of words stands on both.
DROP TRIGGER records_are_searched;
DROP TABLE records_text;
CREATE VIRTUAL TABLE records_text
    USING fts5 (text, who, content='record_words', content_rowid='id');
INSERT INTO records_text (records_text) VALUES ('rebuild');
CREATE TRIGGER records_are_searched AFTER INSERT ON record_parts
BEGIN
    INSERT INTO records_text (rowid, text, who) VALUES (new.entry, new.text, new.who);
END;
