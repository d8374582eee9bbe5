-- Machines and clients that the shop looks after no more: what was done stays, nothing new begins.
ALTER TABLE machines ADD COLUMN retired_at INTEGER;
ALTER TABLE machines ADD COLUMN retired_why TEXT NOT NULL DEFAULT '';
-- With its client; it comes back with it.
ALTER TABLE machines ADD COLUMN retired_with_client INTEGER NOT NULL DEFAULT 0;
ALTER TABLE clients ADD COLUMN retired_at INTEGER;
ALTER TABLE clients ADD COLUMN retired_why TEXT NOT NULL DEFAULT '';

-- Whatever asks for it: no work begins on a machine that is retired.
CREATE TRIGGER runs_are_of_machines_in_care BEFORE INSERT ON runs
WHEN (SELECT retired_at FROM machines WHERE id = new.machine_id) IS NOT NULL
BEGIN SELECT RAISE(ABORT, 'the machine is retired'); END;
