-- The head and foot of the shop's papers.
CREATE TABLE letterhead (
    id INTEGER PRIMARY KEY CHECK (id = 1),
    head TEXT NOT NULL,
    foot TEXT NOT NULL,
    terms TEXT NOT NULL,
    language TEXT NOT NULL,
    -- the mark as it was uploaded and checked: 'svg' or 'png'
    mark_kind TEXT NOT NULL DEFAULT '',
    mark BLOB,
    version INTEGER NOT NULL DEFAULT 1,
    changed_by TEXT NOT NULL,
    changed_at INTEGER NOT NULL
) STRICT;

-- Reports for clients, kept as they were made.
CREATE TABLE reports (
    id INTEGER PRIMARY KEY,
    client_id INTEGER NOT NULL REFERENCES clients (id),
    visit_id INTEGER REFERENCES visits (id),
    title TEXT NOT NULL,
    language TEXT NOT NULL,
    first TEXT NOT NULL,
    last TEXT NOT NULL,
    asked TEXT NOT NULL,
    document TEXT NOT NULL,
    seal TEXT NOT NULL,
    pdf BLOB NOT NULL,
    made_by TEXT NOT NULL,
    made_at INTEGER NOT NULL,
    sent_to TEXT NOT NULL DEFAULT '',
    sent_at INTEGER
) STRICT;
CREATE INDEX reports_by_client ON reports (client_id, id);
CREATE INDEX reports_by_visit ON reports (visit_id, id) WHERE visit_id IS NOT NULL;

CREATE TABLE report_machines (
    machine_id INTEGER NOT NULL REFERENCES machines (id),
    report_id INTEGER NOT NULL REFERENCES reports (id),
    PRIMARY KEY (machine_id, report_id)
) STRICT, WITHOUT ROWID;
CREATE INDEX report_machines_of_report ON report_machines (report_id);

-- The entries of the record that a report stands on.
CREATE TABLE report_entries (
    report_id INTEGER NOT NULL REFERENCES reports (id),
    entry INTEGER NOT NULL REFERENCES records (id),
    PRIMARY KEY (report_id, entry)
) STRICT, WITHOUT ROWID;
CREATE INDEX report_entries_by_entry ON report_entries (entry);

-- Mail to clients goes the way of notices; a report goes with it.
CREATE TABLE notices_anew (
    id INTEGER PRIMARY KEY,
    uid TEXT NOT NULL UNIQUE,
    kind TEXT NOT NULL
        CHECK (kind IN ('at once', 'daily', 'weekly', 'trial', 'report', 'ready')),
    person_id INTEGER REFERENCES people (id),
    hook_id INTEGER REFERENCES hooks (id),
    receiver TEXT NOT NULL,
    subject TEXT NOT NULL,
    body TEXT NOT NULL,
    html TEXT NOT NULL DEFAULT '',
    made_at INTEGER NOT NULL,
    due_at INTEGER NOT NULL,
    tries INTEGER NOT NULL DEFAULT 0,
    state TEXT NOT NULL DEFAULT 'waiting' CHECK (state IN ('waiting', 'delivered', 'given up')),
    error TEXT NOT NULL DEFAULT '',
    ended_at INTEGER,
    report_id INTEGER REFERENCES reports (id)
) STRICT;
INSERT INTO notices_anew
    SELECT id, uid, kind, person_id, hook_id, receiver, subject, body, html, made_at, due_at,
           tries, state, error, ended_at, NULL FROM notices;
DROP TABLE notices;
ALTER TABLE notices_anew RENAME TO notices;
CREATE INDEX notices_due ON notices (due_at) WHERE state = 'waiting';
CREATE INDEX notices_of_person ON notices (person_id, made_at) WHERE person_id IS NOT NULL;
CREATE INDEX notices_of_hook ON notices (hook_id, made_at) WHERE hook_id IS NOT NULL;
CREATE INDEX notices_by_age ON notices (made_at);
CREATE INDEX notices_by_state ON notices (state, id);
CREATE INDEX notices_of_report ON notices (report_id) WHERE report_id IS NOT NULL;
