-- Links by which somebody without an account reads the statement of a study. Only digests are kept.
CREATE TABLE share (
    id bigserial PRIMARY KEY,
    study_id bigint NOT NULL REFERENCES study ON DELETE CASCADE,
    sha256 text NOT NULL UNIQUE,
    -- Whom it is for.
    name text NOT NULL,
    account_id bigint REFERENCES account ON DELETE SET NULL,
    created_at timestamptz NOT NULL DEFAULT now(),
    expires_at timestamptz NOT NULL,
    withdrawn_at timestamptz,
    -- How often it was followed, and when last.
    followed bigint NOT NULL DEFAULT 0,
    followed_at timestamptz
);
CREATE INDEX share_of_study ON share (study_id);
