-- Clients and machines in full; and of what a machine is, what its agent read beside what people say.
ALTER TABLE clients ADD COLUMN reach_by TEXT NOT NULL DEFAULT '';
ALTER TABLE clients ADD COLUMN hours TEXT NOT NULL DEFAULT '';
ALTER TABLE clients ADD COLUMN agreements TEXT NOT NULL DEFAULT '';
ALTER TABLE machines ADD COLUMN processor TEXT NOT NULL DEFAULT '';
ALTER TABLE machines ADD COLUMN system_version TEXT NOT NULL DEFAULT '';
ALTER TABLE machines ADD COLUMN year INTEGER;
ALTER TABLE machines ADD COLUMN used_for TEXT NOT NULL DEFAULT '';
ALTER TABLE machines ADD COLUMN used_by TEXT NOT NULL DEFAULT '';
ALTER TABLE machines ADD COLUMN stands_at TEXT NOT NULL DEFAULT '';

-- The columns of a machine hold what counts: what a person said, else what was read.
CREATE TABLE machine_facts (
    machine_id INTEGER NOT NULL REFERENCES machines (id),
    name TEXT NOT NULL,
    by_person INTEGER NOT NULL,
    value TEXT NOT NULL,
    source TEXT NOT NULL,
    at INTEGER NOT NULL,
    PRIMARY KEY (machine_id, name, by_person)
) STRICT, WITHOUT ROWID;

-- Nobody knows any more who filled in what is there: it stands as said.
INSERT INTO machine_facts SELECT id, 'make', 1, make, changed_by, changed_at FROM machines
    WHERE make <> '';
INSERT INTO machine_facts SELECT id, 'model', 1, model, changed_by, changed_at FROM machines
    WHERE model <> '';
INSERT INTO machine_facts SELECT id, 'serial', 1, serial, changed_by, changed_at FROM machines
    WHERE serial <> '';
INSERT INTO machine_facts SELECT id, 'memory', 1, memory, changed_by, changed_at FROM machines
    WHERE memory IS NOT NULL;
