-- Protect lists, standing consents, and what the last surveys know for what-if.

-- What always stays; each scope only adds. subject_id is 0 for the shop.
CREATE TABLE protections (
    id INTEGER PRIMARY KEY,
    scope TEXT NOT NULL CHECK (scope IN ('shop', 'client', 'machine')),
    subject_id INTEGER NOT NULL,
    kind TEXT NOT NULL CHECK (kind IN ('folder', 'pattern', 'site')),
    what TEXT NOT NULL,
    note TEXT NOT NULL,
    added_by TEXT NOT NULL,
    added_at INTEGER NOT NULL,
    UNIQUE (scope, subject_id, kind, what)
) STRICT;

-- A yes for as long as it is not taken back, so that a rule may propose regularly.
CREATE TABLE standing_consents (
    id INTEGER PRIMARY KEY,
    machine_id INTEGER NOT NULL REFERENCES machines (id),
    category TEXT NOT NULL,
    given_by TEXT NOT NULL,
    via TEXT NOT NULL,
    word TEXT NOT NULL,
    given_at INTEGER NOT NULL,
    taken_back_by TEXT,
    taken_back_at INTEGER
) STRICT;
CREATE UNIQUE INDEX standing_consents_in_force ON standing_consents (machine_id, category)
    WHERE taken_back_at IS NULL;
CREATE INDEX standing_consents_by_machine ON standing_consents (machine_id, id);

-- Each machine's newest survey, a row for each category and volume; kept up as surveys end.
CREATE TABLE profiles (
    category TEXT NOT NULL,
    machine_id INTEGER NOT NULL REFERENCES machines (id),
    mount TEXT NOT NULL,
    looked_at INTEGER NOT NULL,
    capacity INTEGER NOT NULL,
    free INTEGER NOT NULL,
    larger INTEGER NOT NULL,
    ages BLOB NOT NULL,
    ranked BLOB NOT NULL,
    PRIMARY KEY (category, machine_id, mount)
) STRICT, WITHOUT ROWID;
CREATE INDEX profiles_by_machine ON profiles (machine_id);

-- Listings are read largest first.
CREATE INDEX survey_items_by_size ON survey_items (survey_id, category, size DESC, number);

-- A survey that still runs keeps its lines as they come.
CREATE TABLE survey_parts (
    survey_id INTEGER NOT NULL REFERENCES surveys (id),
    category TEXT NOT NULL,
    mount TEXT NOT NULL,
    line TEXT NOT NULL,
    PRIMARY KEY (survey_id, category, mount)
) STRICT, WITHOUT ROWID;
