-- By which keys the record was sealed, the newest last; each signed by the one before, but where
-- that was lost. The keys themselves lie outside of this file.
CREATE TABLE seal_keys (
    id INTEGER PRIMARY KEY,
    public_key BLOB NOT NULL,
    since INTEGER NOT NULL,
    handed_over BLOB
) STRICT;
