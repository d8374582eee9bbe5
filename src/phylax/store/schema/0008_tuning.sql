-- Tune-up: what machines' settings are, what the shop knows of programs, what clients answered.
CREATE TABLE settings_looks (
    machine_id INTEGER PRIMARY KEY REFERENCES machines (id) ON DELETE CASCADE,
    taken_at INTEGER NOT NULL,
    unread TEXT NOT NULL
) STRICT;

-- A program as it was read, once however many machines have it so.
CREATE TABLE programs (
    id INTEGER PRIMARY KEY,
    key TEXT NOT NULL,
    read_as TEXT NOT NULL UNIQUE
) STRICT;

CREATE TABLE machine_programs (
    machine_id INTEGER NOT NULL REFERENCES machines (id) ON DELETE CASCADE,
    program_id INTEGER NOT NULL REFERENCES programs (id),
    PRIMARY KEY (machine_id, program_id)
) STRICT, WITHOUT ROWID;
CREATE INDEX machine_programs_by_program ON machine_programs (program_id);

CREATE TABLE known_programs (
    id INTEGER PRIMARY KEY,
    edit TEXT NOT NULL,
    version INTEGER NOT NULL DEFAULT 1,
    written_by TEXT NOT NULL,
    written_at INTEGER NOT NULL
) STRICT;

CREATE TABLE answers (
    scope TEXT NOT NULL CHECK (scope IN ('client', 'machine')),
    subject_id INTEGER NOT NULL,
    question TEXT NOT NULL,
    answer TEXT NOT NULL CHECK (answer IN ('yes', 'no')),
    word TEXT NOT NULL,
    who TEXT NOT NULL,
    at INTEGER NOT NULL,
    PRIMARY KEY (scope, subject_id, question)
) STRICT, WITHOUT ROWID;

CREATE TABLE program_rules (
    scope TEXT NOT NULL CHECK (scope IN ('shop', 'client', 'machine')),
    subject_id INTEGER NOT NULL,
    program TEXT NOT NULL,
    rule TEXT NOT NULL,
    version INTEGER NOT NULL DEFAULT 1,
    changed_by TEXT NOT NULL,
    changed_at INTEGER NOT NULL,
    PRIMARY KEY (scope, subject_id, program)
) STRICT, WITHOUT ROWID;
