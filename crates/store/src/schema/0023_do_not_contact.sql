-- Who is not to be contacted, whatever a policy says: the customers of the newest version of a table, by
-- one of its columns.
CREATE TABLE do_not_contact (
    workspace_id bigint PRIMARY KEY REFERENCES workspace ON DELETE CASCADE,
    table_name text NOT NULL,
    by_column text NOT NULL,
    account_id bigint REFERENCES account ON DELETE SET NULL,
    said_at timestamptz NOT NULL DEFAULT now()
);
-- How many customers of a list were left alone because of that.
ALTER TABLE list ADD COLUMN suppressed bigint NOT NULL DEFAULT 0;
