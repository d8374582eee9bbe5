-- Keys of devices (WebAuthn) by which people sign in without a password, and what signed in by one.
CREATE TABLE passkeys (
    id INTEGER PRIMARY KEY,
    person_id INTEGER NOT NULL REFERENCES people (id),
    credential BLOB NOT NULL UNIQUE,
    public_key BLOB NOT NULL,
    sign_count INTEGER NOT NULL,
    host TEXT NOT NULL,
    name TEXT NOT NULL,
    made_at INTEGER NOT NULL,
    used_at INTEGER
) STRICT;
CREATE INDEX passkeys_by_person ON passkeys (person_id);
ALTER TABLE sessions ADD COLUMN by_passkey INTEGER NOT NULL DEFAULT 0;

CREATE VIEW people_with_keys AS
    SELECT p.*, (SELECT count(*) FROM passkeys k WHERE k.person_id = p.id) AS passkeys
    FROM people p;
