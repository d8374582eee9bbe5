-- What the entries of the protect list cover on each machine, as its newest look found it.
CREATE TABLE protection_covers (
    machine_id INTEGER NOT NULL REFERENCES machines (id) ON DELETE CASCADE,
    kind TEXT NOT NULL,
    what TEXT NOT NULL,
    is_there INTEGER NOT NULL,
    kept INTEGER NOT NULL,
    kept_size INTEGER NOT NULL,
    at INTEGER NOT NULL,
    PRIMARY KEY (machine_id, kind, what)
) STRICT, WITHOUT ROWID;

-- Which life of the records this is. Agents remember it, and how far it had come: where it comes to
-- them younger than they knew it, the records were set back, and a new life begins.
CREATE TABLE generation (
    id INTEGER PRIMARY KEY CHECK (id = 1),
    name TEXT NOT NULL,
    since INTEGER NOT NULL
) STRICT;
INSERT INTO generation VALUES (1, lower(hex(randomblob(16))), 0);

-- Holds anew: what an agent holds may be of a run that the records do not know, as they were set
-- back. Foreign keys are off while a schema file is applied.
CREATE TABLE holds_anew (
    id INTEGER PRIMARY KEY,
    machine_id INTEGER NOT NULL REFERENCES machines (id),
    run_id INTEGER REFERENCES runs (id),
    batch TEXT NOT NULL,
    category TEXT NOT NULL,
    mount TEXT NOT NULL,
    held_at INTEGER NOT NULL,
    until_at INTEGER NOT NULL,
    held_count INTEGER NOT NULL DEFAULT 0,
    held_size INTEGER NOT NULL DEFAULT 0,
    back_count INTEGER NOT NULL DEFAULT 0,
    back_size INTEGER NOT NULL DEFAULT 0,
    gone_count INTEGER NOT NULL DEFAULT 0,
    gone_size INTEGER NOT NULL DEFAULT 0,
    UNIQUE (machine_id, batch)
) STRICT;
INSERT INTO holds_anew
    (id, machine_id, run_id, batch, category, mount, held_at, until_at, held_count, held_size,
     back_count, back_size, gone_count, gone_size)
SELECT id, machine_id, run_id, batch, category, mount, held_at, until_at, held_count, held_size,
       back_count, back_size, gone_count, gone_size
FROM holds;
DROP TABLE holds;
ALTER TABLE holds_anew RENAME TO holds;
CREATE INDEX holds_by_machine ON holds (machine_id, id);
CREATE INDEX holds_by_run ON holds (run_id);
CREATE INDEX holds_open ON holds (machine_id, id) WHERE held_count > 0;

-- Why an agent does not trust its machine's clock; and what is old by its contents in places that
-- are mostly kept by changes of attributes alone, in two looks running.
ALTER TABLE machines ADD COLUMN clock_doubt TEXT NOT NULL DEFAULT '';
ALTER TABLE machines ADD COLUMN clock_doubt_since INTEGER;
ALTER TABLE machines ADD COLUMN kept_young TEXT;

-- A limit on size counts for each person by themselves; of several together only so much is known.
ALTER TABLE profiles ADD COLUMN people INTEGER NOT NULL DEFAULT 1;
