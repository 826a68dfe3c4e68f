-- Customers that a version of a release has met, counted day by day: a pronoia_core::watch::Tally.
CREATE TABLE release_tally (
  version_id bigint NOT NULL REFERENCES release_version (id) ON DELETE CASCADE,
  day date NOT NULL,
  tally jsonb NOT NULL,
  PRIMARY KEY (version_id, day)
);
-- What was told of a version in the ledger already, so that it is told once.
CREATE TABLE release_alert (
  version_id bigint NOT NULL REFERENCES release_version (id) ON DELETE CASCADE,
  what text NOT NULL,
  told_at timestamptz NOT NULL DEFAULT now(),
  PRIMARY KEY (version_id, what)
);
-- What a version promised of customers, and what happened to them.
CREATE TABLE release_promise (
  id bigserial PRIMARY KEY,
  version_id bigint NOT NULL REFERENCES release_version (id) ON DELETE CASCADE,
  -- The table that says what happened, as it was called then.
  table_name text NOT NULL,
  table_id bigint NOT NULL,
  -- What was found: a pronoia_store::watched::Promise.
  found jsonb NOT NULL,
  created_at timestamptz NOT NULL DEFAULT now()
);
CREATE INDEX ON release_promise (version_id);
