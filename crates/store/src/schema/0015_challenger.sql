-- A version that answers some of the calls, to be compared with the one that answers the others.
ALTER TABLE release ADD COLUMN challenger_id bigint REFERENCES release_version (id) ON DELETE SET NULL;
ALTER TABLE release ADD COLUMN challenger_share double precision NOT NULL DEFAULT 0
  CHECK (challenger_share >= 0 AND challenger_share <= 0.5);
