-- Whether a hook may lead into the shop's own network; those that are there do as they did.
ALTER TABLE hooks ADD COLUMN own_network INTEGER NOT NULL DEFAULT 1;

-- Who has to sign in with a code as well.
ALTER TABLE shop ADD COLUMN codes_for TEXT NOT NULL DEFAULT 'nobody'
    CHECK (codes_for IN ('nobody', 'owners', 'everybody'));
