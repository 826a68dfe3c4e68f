-- Attempts to sign in, by account and network, entered before a password is looked at. “*” stands for all.
DROP TABLE sign_in_attempt;
CREATE TABLE sign_in_guard (
    email text NOT NULL,
    address text NOT NULL,
    tries integer NOT NULL,
    next_at timestamptz NOT NULL,
    last_at timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (email, address)
);

-- Who made a key; nothing is known of those made before.
ALTER TABLE release_key ADD COLUMN account_id bigint REFERENCES account ON DELETE SET NULL;

-- Who was erased: digests, by which rows that were on their way meanwhile are found. The salt is of the row alone.
CREATE TABLE erased_identity (
    id bigserial PRIMARY KEY,
    workspace_id bigint NOT NULL REFERENCES workspace ON DELETE CASCADE,
    column_name text NOT NULL,
    salt text NOT NULL,
    -- Of the value as text, as a number and as a day; empty where it is none.
    as_text text NOT NULL,
    as_number text NOT NULL,
    erased_at timestamptz NOT NULL DEFAULT now()
);
