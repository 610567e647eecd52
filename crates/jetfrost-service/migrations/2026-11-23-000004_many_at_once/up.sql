-- Enrolment codes that know which machine they are for, image stores that are not encrypted where a destination allows it,
-- how the service announces itself, and the units in which sizes are shown.

ALTER TABLE enrolment_codes ADD COLUMN machine TEXT;
ALTER TABLE enrolment_codes ADD COLUMN machine_key TEXT;
-- Whether the code says what limit the image store gets; if it does and there is no number, there is no limit.
ALTER TABLE enrolment_codes ADD COLUMN limit_said BOOLEAN NOT NULL DEFAULT FALSE;
ALTER TABLE enrolment_codes ADD COLUMN size_limit BIGINT;
ALTER TABLE enrolment_codes ADD COLUMN encrypted BOOLEAN NOT NULL DEFAULT TRUE;
CREATE INDEX enrolment_codes_by_machine ON enrolment_codes (machine_key);

-- All that was there is encrypted.
ALTER TABLE destinations ADD COLUMN encryption TEXT NOT NULL DEFAULT 'required';
ALTER TABLE stores ADD COLUMN encrypted BOOLEAN NOT NULL DEFAULT TRUE;

-- The service announces itself unless somebody decides otherwise; no interfaces named means all.
ALTER TABLE installation ADD COLUMN announcing BOOLEAN NOT NULL DEFAULT TRUE;
ALTER TABLE installation ADD COLUMN announced_as TEXT;
ALTER TABLE installation ADD COLUMN announced_on TEXT NOT NULL DEFAULT '';

ALTER TABLE installation ADD COLUMN units TEXT NOT NULL DEFAULT 'decimal';
