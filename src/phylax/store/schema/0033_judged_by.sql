-- By what a run's look, and the question before a cleaning, was judged: of a run that looked, a
-- digest of the protect list that it was sent; of a cleaning that somebody was asked about, the
-- survey whose figures they were shown.
ALTER TABLE runs ADD COLUMN protect_digest TEXT;
ALTER TABLE runs ADD COLUMN asked_by INTEGER;
