-- One word for one thing: columns and values are called as in the API.
ALTER TABLE destinations RENAME COLUMN keeping TO retention;
ALTER TABLE destinations RENAME COLUMN openness TO granted_to;
ALTER TABLE destinations RENAME COLUMN records_copied TO records_backed_up;
ALTER TABLE destinations RENAME COLUMN records_trouble TO records_backup_trouble;
ALTER TABLE stores RENAME COLUMN keeping TO retention;
ALTER TABLE stores RENAME COLUMN leaves TO removal_ends;
ALTER TABLE stores RENAME COLUMN leaving_by TO removal_by;
ALTER TABLE points RENAME COLUMN leaves TO removal_ends;
ALTER TABLE points RENAME COLUMN leaving_by TO removal_by;
ALTER TABLE installation RENAME COLUMN accepting TO new_backups;
ALTER TABLE settled RENAME TO dismissed;
UPDATE dismissed SET step = 'maintenance' WHERE step = 'admission';
UPDATE told SET kind = 'records_not_backed_up' WHERE kind = 'records_unprotected';
UPDATE destinations SET at_limit = 'expire_oldest' WHERE at_limit = 'let_oldest_go';
UPDATE restores SET purpose = 'restore' WHERE purpose = 'bring_back';

CREATE TABLE earlier_terms_renamed (
    id INTEGER PRIMARY KEY NOT NULL,
    store_id TEXT NOT NULL REFERENCES stores (id),
    retention TEXT NOT NULL,
    protected_days BIGINT NOT NULL CHECK (protected_days BETWEEN 0 AND 3650),
    at_limit TEXT NOT NULL CHECK (at_limit IN ('stop', 'expire_oldest')),
    ended BIGINT NOT NULL
);
INSERT INTO earlier_terms_renamed
    SELECT id, store_id, keeping, protected_days, CASE at_limit WHEN 'let_oldest_go' THEN 'expire_oldest' ELSE at_limit END, ended
    FROM earlier_terms;
DROP TABLE earlier_terms;
ALTER TABLE earlier_terms_renamed RENAME TO earlier_terms;
CREATE INDEX earlier_terms_by_store ON earlier_terms (store_id);
