-- What a person keeps of a page's state under a name.
CREATE TABLE views (
    id INTEGER PRIMARY KEY,
    person_id INTEGER NOT NULL REFERENCES people (id) ON DELETE CASCADE,
    page TEXT NOT NULL,
    name TEXT NOT NULL,
    query TEXT NOT NULL,
    UNIQUE (person_id, page, name)
) STRICT;

-- Who wrote an entry, to choose by.
CREATE INDEX records_by_author ON records (who, id);
