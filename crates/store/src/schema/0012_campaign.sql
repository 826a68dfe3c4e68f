-- A scored list acted on, some of its customers held back.
CREATE TABLE campaign (
  id bigserial PRIMARY KEY,
  study_id bigint NOT NULL REFERENCES study (id) ON DELETE CASCADE,
  list_id bigint NOT NULL REFERENCES list (id) ON DELETE CASCADE,
  name text NOT NULL,
  -- Who is held back and what is done about the others: pronoia_core::campaign::Arms.
  arms jsonb NOT NULL,
  -- The customers with their arms.
  assigned_id bigint REFERENCES record_table (id),
  -- How many are acted on and held back, and what acting on the former is expected to gain.
  acted bigint,
  held bigint,
  gain double precision,
  -- What came of it: pronoia_core::campaign::Outcome.
  outcome jsonb,
  created_at timestamptz NOT NULL DEFAULT now()
);
CREATE INDEX campaign_study ON campaign (study_id);
