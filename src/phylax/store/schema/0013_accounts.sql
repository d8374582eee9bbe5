-- Sign-ins that can be listed and ended, browsers that are known, tokens of a scope that expire,
-- one-time links, and who left for good. Tries to sign in are counted in memory.
DROP TABLE sign_in_failures;

CREATE TABLE known_browsers (
    hash BLOB PRIMARY KEY,
    person_id INTEGER NOT NULL REFERENCES people (id),
    last_at INTEGER NOT NULL
) STRICT;
CREATE INDEX known_browsers_by_person ON known_browsers (person_id);

CREATE TABLE sessions_new (
    id INTEGER PRIMARY KEY,
    hash BLOB NOT NULL UNIQUE,
    person_id INTEGER NOT NULL REFERENCES people (id),
    made_at INTEGER NOT NULL,
    expires_at INTEGER NOT NULL,
    seen_at INTEGER NOT NULL,
    address TEXT NOT NULL,
    browser TEXT NOT NULL
) STRICT;
INSERT INTO sessions_new (hash, person_id, made_at, expires_at, seen_at, address, browser)
SELECT hash, person_id, made_at, expires_at, made_at, '', '' FROM sessions;
DROP TABLE sessions;
ALTER TABLE sessions_new RENAME TO sessions;
CREATE INDEX sessions_by_person ON sessions (person_id);
CREATE INDEX sessions_by_expiry ON sessions (expires_at);

-- what was made before there were scopes keeps what it could do
ALTER TABLE tokens ADD COLUMN scope TEXT NOT NULL DEFAULT 'everything';
ALTER TABLE tokens ADD COLUMN expires_at INTEGER;

ALTER TABLE people ADD COLUMN left_at INTEGER;
-- the secret of a second step; its last step used, so that no code counts twice
ALTER TABLE people ADD COLUMN codes_secret TEXT;
ALTER TABLE people ADD COLUMN codes_step INTEGER NOT NULL DEFAULT 0;

CREATE TABLE one_time_links (
    hash BLOB PRIMARY KEY,
    person_id INTEGER NOT NULL REFERENCES people (id),
    made_by TEXT NOT NULL,
    made_at INTEGER NOT NULL,
    expires_at INTEGER NOT NULL
) STRICT;
CREATE INDEX one_time_links_by_person ON one_time_links (person_id);
