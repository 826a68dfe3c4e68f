-- Keys by which other programs do the work of a workspace. Only digests are kept.
CREATE TABLE program_key (
  id bigserial PRIMARY KEY,
  workspace_id bigint NOT NULL REFERENCES workspace (id) ON DELETE CASCADE,
  -- Who made it, for whom its choices are entered.
  account_id bigint NOT NULL REFERENCES account (id),
  name text NOT NULL,
  sha256 text NOT NULL UNIQUE,
  -- Its first letters, to tell keys apart.
  begins text NOT NULL,
  created_at timestamptz NOT NULL DEFAULT now(),
  revoked_at timestamptz
);
