-- What whoever restored a whole machine found when it was checked off, in JSON.
ALTER TABLE restores ADD COLUMN checklist TEXT;
