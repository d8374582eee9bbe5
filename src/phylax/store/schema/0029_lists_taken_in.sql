-- Numbers that clients and machines had in a list that was taken in: by them they are known when it
-- is taken in again.
CREATE TABLE list_numbers (
    source TEXT NOT NULL,
    kind TEXT NOT NULL CHECK (kind IN ('client', 'machine')),
    number TEXT NOT NULL,
    subject_id INTEGER NOT NULL,
    PRIMARY KEY (source, kind, number)
) STRICT, WITHOUT ROWID;
