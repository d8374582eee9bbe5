-- The shop, its people, clients and machines, and everything an agent reports and does.
-- Times are whole seconds since the Unix epoch, sizes are bytes, JSON is core's wire form.

CREATE TABLE shop (
    id INTEGER PRIMARY KEY CHECK (id = 1),
    name TEXT NOT NULL,
    zone TEXT NOT NULL,
    threshold_percent INTEGER NOT NULL DEFAULT 90,
    is_demo INTEGER NOT NULL DEFAULT 0,
    version INTEGER NOT NULL DEFAULT 1,
    changed_by TEXT NOT NULL DEFAULT '',
    changed_at INTEGER NOT NULL DEFAULT 0
) STRICT;

CREATE TABLE people (
    id INTEGER PRIMARY KEY,
    login TEXT NOT NULL UNIQUE,
    name TEXT NOT NULL,
    role TEXT NOT NULL CHECK (role IN ('owner', 'technician', 'desk')),
    password TEXT NOT NULL,
    active INTEGER NOT NULL DEFAULT 1,
    made_at INTEGER NOT NULL
) STRICT;

CREATE TABLE sessions (
    hash BLOB PRIMARY KEY,
    person_id INTEGER NOT NULL REFERENCES people (id),
    made_at INTEGER NOT NULL,
    expires_at INTEGER NOT NULL
) STRICT, WITHOUT ROWID;
CREATE INDEX sessions_by_person ON sessions (person_id);
CREATE INDEX sessions_by_expiry ON sessions (expires_at);

CREATE TABLE tokens (
    id INTEGER PRIMARY KEY,
    hash BLOB NOT NULL UNIQUE,
    person_id INTEGER NOT NULL REFERENCES people (id),
    name TEXT NOT NULL,
    made_at INTEGER NOT NULL,
    used_at INTEGER,
    withdrawn_at INTEGER
) STRICT;
CREATE INDEX tokens_by_person ON tokens (person_id);

CREATE TABLE sign_in_failures (
    login TEXT PRIMARY KEY,
    failures INTEGER NOT NULL,
    last_at INTEGER NOT NULL
) STRICT, WITHOUT ROWID;

CREATE TABLE clients (
    id INTEGER PRIMARY KEY,
    name TEXT NOT NULL UNIQUE COLLATE NOCASE,
    contact TEXT NOT NULL,
    mail TEXT NOT NULL,
    phone TEXT NOT NULL,
    note TEXT NOT NULL,
    version INTEGER NOT NULL DEFAULT 1,
    changed_by TEXT NOT NULL,
    changed_at INTEGER NOT NULL
) STRICT;

CREATE TABLE machines (
    id INTEGER PRIMARY KEY,
    tag TEXT NOT NULL UNIQUE,
    client_id INTEGER NOT NULL REFERENCES clients (id),
    system TEXT NOT NULL CHECK (system IN ('windows', 'macos', 'linux')),
    make TEXT NOT NULL,
    model TEXT NOT NULL,
    serial TEXT NOT NULL,
    memory INTEGER,
    note TEXT NOT NULL,
    seen_at INTEGER,
    cleaned_at INTEGER,
    -- how it stands, kept up as surveys and runs end, so that no page reads histories
    survey_id INTEGER,
    looked_at INTEGER,
    can_go TEXT,
    waits_for_yes TEXT,
    last_run_id INTEGER,
    missed_in_a_row INTEGER NOT NULL DEFAULT 0,
    version INTEGER NOT NULL DEFAULT 1,
    changed_by TEXT NOT NULL,
    changed_at INTEGER NOT NULL
) STRICT;
CREATE INDEX machines_by_client ON machines (client_id);

CREATE TABLE agents (
    machine_id INTEGER PRIMARY KEY REFERENCES machines (id),
    key_hash BLOB NOT NULL UNIQUE,
    kind TEXT NOT NULL,
    host TEXT NOT NULL,
    version TEXT NOT NULL,
    enrolled_at INTEGER NOT NULL
) STRICT;

CREATE TABLE enrolment_codes (
    hash BLOB PRIMARY KEY,
    machine_id INTEGER NOT NULL REFERENCES machines (id),
    made_by TEXT NOT NULL,
    made_at INTEGER NOT NULL,
    expires_at INTEGER NOT NULL,
    used_at INTEGER
) STRICT, WITHOUT ROWID;

CREATE TABLE messages (
    machine_id INTEGER NOT NULL REFERENCES machines (id),
    message_id TEXT NOT NULL,
    at INTEGER NOT NULL,
    PRIMARY KEY (machine_id, message_id)
) STRICT, WITHOUT ROWID;
CREATE INDEX messages_by_age ON messages (at);

CREATE TABLE volumes (
    id INTEGER PRIMARY KEY,
    machine_id INTEGER NOT NULL REFERENCES machines (id),
    mount TEXT NOT NULL,
    name TEXT NOT NULL,
    disk TEXT NOT NULL,
    file_system TEXT NOT NULL,
    capacity INTEGER NOT NULL,
    free INTEGER NOT NULL,
    read_at INTEGER NOT NULL,
    UNIQUE (machine_id, mount)
) STRICT;

CREATE TABLE readings (
    volume_id INTEGER NOT NULL REFERENCES volumes (id),
    at INTEGER NOT NULL,
    capacity INTEGER NOT NULL,
    free INTEGER NOT NULL,
    PRIMARY KEY (volume_id, at)
) STRICT, WITHOUT ROWID;

-- Each day's lowest, highest and last free space, kept up as readings arrive.
CREATE TABLE reading_days (
    volume_id INTEGER NOT NULL REFERENCES volumes (id),
    day INTEGER NOT NULL,
    capacity INTEGER NOT NULL,
    low INTEGER NOT NULL,
    high INTEGER NOT NULL,
    free INTEGER NOT NULL,
    last_at INTEGER NOT NULL,
    PRIMARY KEY (volume_id, day)
) STRICT, WITHOUT ROWID;

-- One row for what one scope says about one category; subject_id is 0 for the shop.
CREATE TABLE rules (
    scope TEXT NOT NULL CHECK (scope IN ('shop', 'client', 'machine')),
    subject_id INTEGER NOT NULL,
    category TEXT NOT NULL,
    rule TEXT NOT NULL,
    version INTEGER NOT NULL DEFAULT 1,
    changed_by TEXT NOT NULL,
    changed_at INTEGER NOT NULL,
    PRIMARY KEY (scope, subject_id, category)
) STRICT, WITHOUT ROWID;

CREATE TABLE rounds (
    id INTEGER PRIMARY KEY,
    name TEXT NOT NULL UNIQUE COLLATE NOCASE,
    recurrence TEXT NOT NULL,
    at TEXT NOT NULL,
    starts_on TEXT NOT NULL,
    catch_up INTEGER NOT NULL,
    categories TEXT NOT NULL,
    paused INTEGER NOT NULL,
    ended INTEGER NOT NULL DEFAULT 0,
    next_at INTEGER,
    version INTEGER NOT NULL DEFAULT 1,
    changed_by TEXT NOT NULL,
    changed_at INTEGER NOT NULL
) STRICT;
CREATE INDEX rounds_by_next ON rounds (next_at) WHERE next_at IS NOT NULL;

CREATE TABLE round_machines (
    round_id INTEGER NOT NULL REFERENCES rounds (id),
    machine_id INTEGER NOT NULL REFERENCES machines (id),
    PRIMARY KEY (round_id, machine_id)
) STRICT, WITHOUT ROWID;
CREATE INDEX round_machines_by_machine ON round_machines (machine_id);

CREATE TABLE runs (
    id INTEGER PRIMARY KEY,
    machine_id INTEGER NOT NULL REFERENCES machines (id),
    round_id INTEGER REFERENCES rounds (id),
    work TEXT NOT NULL CHECK (work IN ('survey', 'clean')),
    categories TEXT NOT NULL,
    state TEXT NOT NULL,
    reason TEXT NOT NULL DEFAULT '',
    made_by TEXT NOT NULL,
    made_at INTEGER NOT NULL,
    due_at INTEGER NOT NULL,
    until_at INTEGER,
    lease TEXT,
    lease_until INTEGER,
    stop_by TEXT,
    started_at INTEGER,
    ended_at INTEGER,
    progress TEXT,
    survey_id INTEGER,
    second_look_id INTEGER,
    expected TEXT,
    removed TEXT,
    freed INTEGER,
    result TEXT
) STRICT;
-- An occurrence of a round exists once for a machine, whatever is restarted.
CREATE UNIQUE INDEX runs_once ON runs (round_id, machine_id, due_at) WHERE round_id IS NOT NULL;
CREATE INDEX runs_by_machine ON runs (machine_id, id);
CREATE INDEX runs_open ON runs (machine_id, due_at)
    WHERE state IN ('waiting', 'offered', 'running');
CREATE INDEX runs_open_until ON runs (until_at) WHERE state = 'waiting' AND until_at IS NOT NULL;
CREATE INDEX runs_leased ON runs (lease_until) WHERE state IN ('offered', 'running');
CREATE INDEX runs_by_end ON runs (ended_at) WHERE ended_at IS NOT NULL;

CREATE TABLE surveys (
    id INTEGER PRIMARY KEY,
    machine_id INTEGER NOT NULL REFERENCES machines (id),
    run_id INTEGER NOT NULL REFERENCES runs (id),
    look TEXT NOT NULL,
    started_at INTEGER NOT NULL,
    ended_at INTEGER,
    lines TEXT NOT NULL DEFAULT '[]',
    UNIQUE (run_id, look)
) STRICT;
CREATE INDEX surveys_by_machine ON surveys (machine_id, id);

CREATE TABLE survey_items (
    survey_id INTEGER NOT NULL REFERENCES surveys (id),
    category TEXT NOT NULL,
    number INTEGER NOT NULL,
    size INTEGER NOT NULL,
    proposed INTEGER NOT NULL,
    item TEXT NOT NULL,
    PRIMARY KEY (survey_id, category, number)
) STRICT, WITHOUT ROWID;

CREATE TABLE consents (
    id INTEGER PRIMARY KEY,
    survey_id INTEGER NOT NULL REFERENCES surveys (id),
    machine_id INTEGER NOT NULL REFERENCES machines (id),
    category TEXT NOT NULL,
    whole INTEGER NOT NULL,
    items INTEGER NOT NULL,
    size INTEGER NOT NULL,
    given_by TEXT NOT NULL,
    via TEXT NOT NULL,
    word TEXT NOT NULL,
    given_at INTEGER NOT NULL,
    expires_at INTEGER NOT NULL,
    run_id INTEGER REFERENCES runs (id)
) STRICT;
CREATE INDEX consents_by_machine ON consents (machine_id, id);
CREATE INDEX consents_by_run ON consents (run_id) WHERE run_id IS NOT NULL;
CREATE INDEX consents_by_survey ON consents (survey_id, category);

CREATE TABLE consent_items (
    consent_id INTEGER NOT NULL REFERENCES consents (id),
    number INTEGER NOT NULL,
    PRIMARY KEY (consent_id, number)
) STRICT, WITHOUT ROWID;

CREATE TABLE records (
    id INTEGER PRIMARY KEY,
    machine_id INTEGER NOT NULL REFERENCES machines (id),
    at INTEGER NOT NULL,
    who TEXT NOT NULL,
    kind TEXT NOT NULL,
    text TEXT NOT NULL,
    run_id INTEGER UNIQUE REFERENCES runs (id),
    state TEXT,
    freed INTEGER,
    removed_count INTEGER,
    left_count INTEGER,
    corrects INTEGER REFERENCES records (id),
    previous TEXT NOT NULL,
    digest TEXT NOT NULL UNIQUE
) STRICT;
CREATE INDEX records_by_machine ON records (machine_id, id);
CREATE TRIGGER records_are_not_changed BEFORE UPDATE ON records
BEGIN SELECT RAISE(ABORT, 'maintenance records are append-only'); END;
CREATE TRIGGER records_are_not_removed BEFORE DELETE ON records
BEGIN SELECT RAISE(ABORT, 'maintenance records are append-only'); END;

CREATE VIRTUAL TABLE records_text USING fts5 (text, who, content='records', content_rowid='id');
CREATE TRIGGER records_are_searched AFTER INSERT ON records
BEGIN
    INSERT INTO records_text (rowid, text, who) VALUES (new.id, new.text, new.who);
END;

CREATE TABLE events (
    id INTEGER PRIMARY KEY AUTOINCREMENT,
    at INTEGER NOT NULL,
    kind TEXT NOT NULL,
    machine_id INTEGER,
    run_id INTEGER
) STRICT;

CREATE TABLE audit (
    id INTEGER PRIMARY KEY,
    at INTEGER NOT NULL,
    who TEXT NOT NULL,
    deed TEXT NOT NULL,
    subject TEXT NOT NULL,
    before TEXT,
    after TEXT
) STRICT;

CREATE TABLE idempotency (
    actor TEXT NOT NULL,
    key TEXT NOT NULL,
    request TEXT NOT NULL,
    status INTEGER NOT NULL,
    body TEXT NOT NULL,
    at INTEGER NOT NULL,
    PRIMARY KEY (actor, key)
) STRICT, WITHOUT ROWID;
CREATE INDEX idempotency_by_age ON idempotency (at);
