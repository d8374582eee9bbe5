-- Backups encrypted to a public key whose other half is kept elsewhere; and who made one by hand.
ALTER TABLE backup_plan ADD COLUMN public_key TEXT NOT NULL DEFAULT '';
ALTER TABLE backups ADD COLUMN made_by TEXT NOT NULL DEFAULT '';
