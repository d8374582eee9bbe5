-- Under what a machine was looked at that its agent alone decides: the rules of its guard.toml and
-- its volumes, as JSON. A cleaning that somebody agreed to by the survey is held against it.
ALTER TABLE surveys ADD COLUMN conditions TEXT;
