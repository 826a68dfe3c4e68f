-- What was found to go with a study's outcome; one per study, replaced as a whole.
CREATE TABLE finding (
    study_id bigint PRIMARY KEY REFERENCES study ON DELETE CASCADE,
    basis jsonb NOT NULL,
    strong bigint NOT NULL,
    drivers jsonb NOT NULL,
    created_at timestamptz NOT NULL DEFAULT now()
);
