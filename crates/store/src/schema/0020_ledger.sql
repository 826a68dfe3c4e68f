-- The choices after an entry; what an entry takes back; what was remarked on it later.
ALTER TABLE ledger_entry ADD COLUMN after jsonb;
ALTER TABLE ledger_entry ADD COLUMN takes_back bigint REFERENCES ledger_entry;
UPDATE ledger_entry e SET after = coalesce(
    (SELECT n.before FROM ledger_entry n
        WHERE n.study_id = e.study_id AND n.before IS NOT NULL AND n.id > e.id ORDER BY n.id LIMIT 1),
    (SELECT s.state FROM study s WHERE s.id = e.study_id))
WHERE before IS NOT NULL AND taken_back_at IS NULL;

CREATE TABLE ledger_remark (
    id bigserial PRIMARY KEY,
    entry_id bigint NOT NULL REFERENCES ledger_entry ON DELETE CASCADE,
    account_id bigint REFERENCES account ON DELETE SET NULL,
    said text NOT NULL,
    file_name text,
    file bytea,
    created_at timestamptz NOT NULL DEFAULT now()
);
CREATE INDEX ledger_remark_of_entry ON ledger_remark (entry_id);
