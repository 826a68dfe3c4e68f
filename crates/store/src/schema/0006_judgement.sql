-- What a model said of every row that it is judged on, so that two can be compared row by row.
CREATE TABLE judgement (
    model_id bigint PRIMARY KEY REFERENCES model ON DELETE CASCADE,
    -- Positions of the rows, probabilities, and whether the event happened, each list in little-endian bytes.
    positions bytea NOT NULL,
    probabilities bytea NOT NULL,
    events bytea NOT NULL
);

-- How long a thousand customers take to score.
ALTER TABLE model ADD COLUMN score_seconds double precision;
