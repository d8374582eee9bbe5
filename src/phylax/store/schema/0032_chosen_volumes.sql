-- For which volumes a survey or a cleaning is, as JSON; none: for all.
ALTER TABLE runs ADD COLUMN volumes TEXT;
