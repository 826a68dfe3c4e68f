-- Databases that records are read from. The password is sealed with a key that
-- lies outside this database.
CREATE TABLE source (
    id bigserial PRIMARY KEY,
    workspace_id bigint NOT NULL REFERENCES workspace ON DELETE CASCADE,
    name text NOT NULL,
    host text NOT NULL,
    port integer NOT NULL,
    database_name text NOT NULL,
    account text NOT NULL,
    encryption text NOT NULL,
    sealed bytea NOT NULL,
    created_at timestamptz NOT NULL DEFAULT now(),
    UNIQUE (workspace_id, name)
);

-- Where a file came from, if not from somebody's hand.
ALTER TABLE upload ADD COLUMN origin text;
