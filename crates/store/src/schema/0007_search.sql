-- Searches over families and settings, as far as they have come.
CREATE TABLE search (
    id bigserial PRIMARY KEY,
    study_id bigint NOT NULL REFERENCES study ON DELETE CASCADE,
    -- A pronoia_core::tune::Search: what is searched, and everything that was tried.
    search jsonb NOT NULL,
    basis jsonb NOT NULL,
    -- queued, done, stopped or failed.
    state text NOT NULL DEFAULT 'queued',
    -- A pronoia_core::tune::Ended, once it has.
    ended text,
    error text,
    -- What it found, once that is to be fitted.
    model_id bigint REFERENCES model ON DELETE SET NULL,
    created_at timestamptz NOT NULL DEFAULT now()
);
CREATE INDEX search_study ON search (study_id);
