-- A model and a policy that other programs call by name.
CREATE TABLE release (
  id bigserial PRIMARY KEY,
  workspace_id bigint NOT NULL REFERENCES workspace (id),
  study_id bigint NOT NULL REFERENCES study (id) ON DELETE CASCADE,
  name text NOT NULL,
  -- The version that answers.
  version_id bigint,
  created_at timestamptz NOT NULL DEFAULT now(),
  UNIQUE (workspace_id, name)
);
CREATE TABLE release_version (
  id bigserial PRIMARY KEY,
  release_id bigint NOT NULL REFERENCES release (id) ON DELETE CASCADE,
  number int NOT NULL,
  model_id bigint NOT NULL REFERENCES model (id),
  -- By what it decides: a pronoia_core::study::ChosenPolicy whose line is one value of the key.
  policy jsonb NOT NULL,
  created_at timestamptz NOT NULL DEFAULT now(),
  UNIQUE (release_id, number)
);
-- Keys are kept as digests: whoever reads this table cannot call anything.
CREATE TABLE release_key (
  id bigserial PRIMARY KEY,
  release_id bigint NOT NULL REFERENCES release (id) ON DELETE CASCADE,
  name text NOT NULL,
  sha256 text NOT NULL UNIQUE,
  -- Its first letters, to tell keys apart.
  begins text NOT NULL,
  per_minute int NOT NULL,
  created_at timestamptz NOT NULL DEFAULT now(),
  revoked_at timestamptz
);
-- How often a version was called, hour by hour.
CREATE TABLE release_use (
  release_id bigint NOT NULL REFERENCES release (id) ON DELETE CASCADE,
  version_id bigint NOT NULL REFERENCES release_version (id) ON DELETE CASCADE,
  hour timestamptz NOT NULL,
  calls bigint NOT NULL DEFAULT 0,
  refused bigint NOT NULL DEFAULT 0,
  customers bigint NOT NULL DEFAULT 0,
  acted bigint NOT NULL DEFAULT 0,
  remarked bigint NOT NULL DEFAULT 0,
  micros bigint NOT NULL DEFAULT 0,
  slowest bigint NOT NULL DEFAULT 0,
  PRIMARY KEY (version_id, hour)
);
