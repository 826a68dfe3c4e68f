-- What the columns of a table mean, in somebody's words; kept by the names, so
-- that it stays with every version.
CREATE TABLE meaning (
    workspace_id bigint NOT NULL REFERENCES workspace ON DELETE CASCADE,
    table_name text NOT NULL,
    column_name text NOT NULL,
    words text NOT NULL,
    written_at timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (workspace_id, table_name, column_name)
);
