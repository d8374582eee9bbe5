-- Keeping watch: lines of volumes, outlooks, what grew back, attention, notices.

ALTER TABLE clients ADD COLUMN threshold_percent INTEGER;
ALTER TABLE machines ADD COLUMN threshold_percent INTEGER;
-- by how many seconds the machine's clock is ahead, and since when that is known
ALTER TABLE machines ADD COLUMN clock_off INTEGER NOT NULL DEFAULT 0;
ALTER TABLE machines ADD COLUMN clock_off_since INTEGER;
CREATE INDEX machines_by_seen ON machines (seen_at);

ALTER TABLE volumes ADD COLUMN identity TEXT NOT NULL DEFAULT '';
-- when it was missed among the machine's volumes
ALTER TABLE volumes ADD COLUMN gone_at INTEGER;
-- what a cleaning would let go on it without asking, by the newest survey
ALTER TABLE volumes ADD COLUMN can_go INTEGER;

-- A volume that was resized, replaced or renamed begins a new line; readings belong to the line
-- that began last before them.
CREATE TABLE volume_lines (
    volume_id INTEGER NOT NULL REFERENCES volumes (id),
    began_at INTEGER NOT NULL,
    capacity INTEGER NOT NULL,
    identity TEXT NOT NULL,
    why TEXT NOT NULL,
    PRIMARY KEY (volume_id, began_at)
) STRICT, WITHOUT ROWID;
INSERT INTO volume_lines
SELECT id, coalesce((SELECT min(at) FROM readings r WHERE r.volume_id = v.id),
                    (SELECT min(last_at) FROM reading_days d WHERE d.volume_id = v.id), read_at),
       capacity, '', ''
FROM volumes v;

-- What each cleaning freed on each volume, as measured there.
CREATE TABLE volume_cleanings (
    volume_id INTEGER NOT NULL REFERENCES volumes (id),
    at INTEGER NOT NULL,
    run_id INTEGER NOT NULL REFERENCES runs (id),
    freed INTEGER NOT NULL,
    PRIMARY KEY (volume_id, at, run_id)
) STRICT, WITHOUT ROWID;
INSERT INTO volume_cleanings
SELECT v.id, r.ended_at, r.id,
       max(0, json_extract(a.value, '$.free') - json_extract(b.value, '$.free'))
FROM runs r
JOIN json_each(r.result, '$.after') a
JOIN json_each(r.result, '$.before') b
  ON json_extract(b.value, '$.mount') = json_extract(a.value, '$.mount')
JOIN volumes v ON v.machine_id = r.machine_id AND v.mount = json_extract(a.value, '$.mount')
WHERE r.work = 'clean' AND r.ended_at IS NOT NULL AND r.result IS NOT NULL;

-- What can be said of each volume, and which are to be looked at anew.
CREATE TABLE outlooks (
    volume_id INTEGER PRIMARY KEY REFERENCES volumes (id),
    machine_id INTEGER NOT NULL REFERENCES machines (id),
    free INTEGER NOT NULL,
    soonest_at INTEGER,
    crosses_at INTEGER,
    latest_at INTEGER,
    full_at INTEGER,
    changed_pace INTEGER NOT NULL DEFAULT 0,
    is_over INTEGER NOT NULL DEFAULT 0,
    verdict TEXT,
    outlook TEXT NOT NULL
) STRICT;
CREATE INDEX outlooks_by_machine ON outlooks (machine_id);
CREATE INDEX outlooks_by_crossing ON outlooks (crosses_at) WHERE crosses_at IS NOT NULL;
CREATE INDEX outlooks_over ON outlooks (full_at) WHERE is_over;
CREATE INDEX outlooks_by_verdict ON outlooks (verdict) WHERE verdict IS NOT NULL;
CREATE INDEX outlooks_changed ON outlooks (machine_id) WHERE changed_pace;
CREATE TABLE outlooks_due (
    volume_id INTEGER PRIMARY KEY REFERENCES volumes (id)
) STRICT;
INSERT INTO outlooks_due SELECT id FROM volumes;

-- What each category held at each look: {category: [holds, goes]}, only where it held anything.
CREATE TABLE survey_sums (
    machine_id INTEGER NOT NULL REFERENCES machines (id),
    at INTEGER NOT NULL,
    survey_id INTEGER NOT NULL REFERENCES surveys (id),
    second INTEGER NOT NULL,
    sums TEXT NOT NULL,
    PRIMARY KEY (machine_id, at, survey_id)
) STRICT, WITHOUT ROWID;
INSERT INTO survey_sums
SELECT s.machine_id, s.ended_at, s.id, s.look = 'second look',
       (SELECT json_group_object(category, json_array(holds, goes)) FROM (
            SELECT json_extract(l.value, '$.category') AS category,
                   sum(json_extract(l.value, '$.holds.size')) AS holds,
                   sum(json_extract(l.value, '$.goes.size')) AS goes
            FROM json_each(s.lines) l GROUP BY 1 HAVING holds > 0))
FROM surveys s WHERE s.ended_at IS NOT NULL;

-- What was freed, by week (Mondays, days since the epoch), category and machine; and in the shop.
CREATE TABLE freed_weeks (
    machine_id INTEGER NOT NULL REFERENCES machines (id),
    week INTEGER NOT NULL,
    category TEXT NOT NULL,
    size INTEGER NOT NULL,
    items INTEGER NOT NULL,
    runs INTEGER NOT NULL,
    PRIMARY KEY (machine_id, week, category)
) STRICT, WITHOUT ROWID;
INSERT INTO freed_weeks
SELECT r.machine_id, (r.ended_at / 86400 + 3) / 7 * 7 - 3,
       json_extract(o.value, '$.category'), sum(json_extract(o.value, '$.removed.size')),
       sum(json_extract(o.value, '$.removed.count')), count(*)
FROM runs r JOIN json_each(r.result, '$.outcomes') o
WHERE r.work = 'clean' AND r.ended_at IS NOT NULL AND r.result IS NOT NULL
GROUP BY 1, 2, 3;
CREATE TABLE shop_weeks (
    week INTEGER NOT NULL,
    category TEXT NOT NULL,
    size INTEGER NOT NULL,
    items INTEGER NOT NULL,
    runs INTEGER NOT NULL,
    PRIMARY KEY (week, category)
) STRICT, WITHOUT ROWID;
INSERT INTO shop_weeks
SELECT week, category, sum(size), sum(items), sum(runs) FROM freed_weeks GROUP BY 1, 2;

-- What needs a person. One open row for each cause on each machine (and subject of it); an ended
-- one stays a while, so that a cause that comes and goes is the same one.
CREATE TABLE attention (
    id INTEGER PRIMARY KEY,
    machine_id INTEGER NOT NULL REFERENCES machines (id),
    cause TEXT NOT NULL,
    subject TEXT NOT NULL,
    found TEXT NOT NULL,
    urgency INTEGER NOT NULL,
    grade INTEGER NOT NULL,
    since INTEGER NOT NULL,
    began_at INTEGER NOT NULL,
    last_seen INTEGER NOT NULL,
    times INTEGER NOT NULL DEFAULT 1,
    ended_at INTEGER,
    taken_by TEXT NOT NULL DEFAULT '',
    taken_at INTEGER,
    off_until INTEGER,
    settled_at INTEGER,
    handled_by TEXT NOT NULL DEFAULT '',
    word TEXT NOT NULL DEFAULT '',
    handled_grade INTEGER,
    told_grade INTEGER,
    version INTEGER NOT NULL DEFAULT 1
) STRICT;
CREATE UNIQUE INDEX attention_open ON attention (machine_id, cause, subject)
    WHERE ended_at IS NULL;
CREATE INDEX attention_by_urgency ON attention (urgency DESC, id) WHERE ended_at IS NULL;
CREATE INDEX attention_by_machine ON attention (machine_id, ended_at);
CREATE INDEX attention_by_end ON attention (ended_at) WHERE ended_at IS NOT NULL;
-- up to which event machines were watched, and when all of them were
ALTER TABLE shop ADD COLUMN watched_event INTEGER NOT NULL DEFAULT 0;
ALTER TABLE shop ADD COLUMN watched_at INTEGER NOT NULL DEFAULT 0;

-- Who is told of what, by mail.
CREATE TABLE notice_wishes (
    person_id INTEGER PRIMARY KEY REFERENCES people (id),
    mail TEXT NOT NULL,
    at_once TEXT NOT NULL CHECK (at_once IN ('never', 'urgent', 'all')),
    daily INTEGER NOT NULL,
    weekly INTEGER NOT NULL,
    quiet_from TEXT,
    quiet_until TEXT,
    version INTEGER NOT NULL DEFAULT 1,
    changed_by TEXT NOT NULL,
    changed_at INTEGER NOT NULL
) STRICT;

-- Through which server mail goes; its password lies in a file of its own.
CREATE TABLE mail_server (
    id INTEGER PRIMARY KEY CHECK (id = 1),
    settings TEXT NOT NULL,
    version INTEGER NOT NULL DEFAULT 1,
    changed_by TEXT NOT NULL,
    changed_at INTEGER NOT NULL
) STRICT;

CREATE TABLE hooks (
    id INTEGER PRIMARY KEY,
    name TEXT NOT NULL,
    url TEXT NOT NULL,
    at_once TEXT NOT NULL CHECK (at_once IN ('urgent', 'all')),
    secret TEXT NOT NULL,
    made_by TEXT NOT NULL,
    made_at INTEGER NOT NULL,
    withdrawn_at INTEGER
) STRICT;

-- Every notice, with its fate. The uid goes along, so that one that came twice can be told.
CREATE TABLE notices (
    id INTEGER PRIMARY KEY,
    uid TEXT NOT NULL UNIQUE,
    kind TEXT NOT NULL CHECK (kind IN ('at once', 'daily', 'weekly', 'trial')),
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
    ended_at INTEGER
) STRICT;
CREATE INDEX notices_due ON notices (due_at) WHERE state = 'waiting';
CREATE INDEX notices_of_person ON notices (person_id, made_at) WHERE person_id IS NOT NULL;
CREATE INDEX notices_of_hook ON notices (hook_id, made_at) WHERE hook_id IS NOT NULL;
CREATE INDEX notices_by_age ON notices (made_at);
CREATE INDEX notices_by_state ON notices (state, id);
CREATE TABLE notice_attention (
    notice_id INTEGER NOT NULL REFERENCES notices (id) ON DELETE CASCADE,
    attention_id INTEGER NOT NULL REFERENCES attention (id) ON DELETE CASCADE,
    PRIMARY KEY (notice_id, attention_id)
) STRICT, WITHOUT ROWID;
CREATE INDEX notice_attention_by_attention ON notice_attention (attention_id);

-- Rules that were changed, in words, so that before and after can be compared.
CREATE TABLE rule_changes (
    id INTEGER PRIMARY KEY,
    at INTEGER NOT NULL,
    who TEXT NOT NULL,
    scope TEXT NOT NULL,
    subject_id INTEGER NOT NULL,
    category TEXT NOT NULL,
    before TEXT NOT NULL,
    after TEXT NOT NULL
) STRICT;
CREATE INDEX rule_changes_by_time ON rule_changes (at);
CREATE INDEX routine_versions_by_time ON routine_versions (changed_at);
CREATE INDEX runs_by_routine ON runs (routine_id, routine_version, id)
    WHERE routine_id IS NOT NULL;
