-- What is known of a candidate besides how it did on the rows that it is judged on.
-- A pronoia_core::decide::Ranking of the rows that it was fitted to.
ALTER TABLE model ADD COLUMN training jsonb;
-- A list of pronoia_core::cautions::Caution.
ALTER TABLE model ADD COLUMN cautions jsonb NOT NULL DEFAULT '[]';
-- A pronoia_core::judged::Closer, once somebody asked for it.
ALTER TABLE model ADD COLUMN closer jsonb;
-- A pronoia_store::models::Proof, once it was fitted again.
ALTER TABLE model ADD COLUMN proof jsonb;

-- The stages that a job went through: a list of pronoia_store::jobs::Stage.
ALTER TABLE job ADD COLUMN log jsonb NOT NULL DEFAULT '[]';
-- The learning curve of what it fits at the moment: step, loss of rows fitted to, loss of rows held back.
ALTER TABLE job ADD COLUMN curve jsonb NOT NULL DEFAULT '[]';

-- What a study's rule of today would have come to; replaced as a whole.
CREATE TABLE rule_tried (
    study_id bigint PRIMARY KEY REFERENCES study ON DELETE CASCADE,
    condition text NOT NULL,
    basis jsonb NOT NULL,
    -- A pronoia_core::decide::FixedRule.
    found jsonb NOT NULL,
    created_at timestamptz NOT NULL DEFAULT now()
);
