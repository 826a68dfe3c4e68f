-- What was put away can be brought back until an owner erases it; and who keeps a study.
ALTER TABLE study ADD COLUMN put_away_at timestamptz;
ALTER TABLE study ADD COLUMN put_away_by bigint REFERENCES account ON DELETE SET NULL;
ALTER TABLE study ADD COLUMN account_id bigint REFERENCES account ON DELETE SET NULL;
UPDATE study s SET account_id =
    (SELECT e.account_id FROM ledger_entry e WHERE e.study_id = s.id AND e.account_id IS NOT NULL ORDER BY e.id LIMIT 1);
ALTER TABLE record_table ADD COLUMN put_away_at timestamptz;
ALTER TABLE record_table ADD COLUMN put_away_by bigint REFERENCES account ON DELETE SET NULL;
