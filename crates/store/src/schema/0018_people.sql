-- What members of a workspace may do there; whoever was there before may do everything.
ALTER TABLE membership ADD COLUMN role text NOT NULL DEFAULT 'owner' CHECK (role IN ('reader', 'analyst', 'owner'));
ALTER TABLE membership ALTER COLUMN role DROP DEFAULT;
ALTER TABLE membership ADD COLUMN joined_at timestamptz NOT NULL DEFAULT now();

-- Links by which somebody joins. Only digests are kept.
CREATE TABLE invitation (
  id bigserial PRIMARY KEY,
  workspace_id bigint NOT NULL REFERENCES workspace (id) ON DELETE CASCADE,
  sha256 text NOT NULL UNIQUE,
  role text NOT NULL CHECK (role IN ('reader', 'analyst', 'owner')),
  -- Whom it is for, as the owner wrote it down.
  name text NOT NULL,
  invited_by bigint NOT NULL REFERENCES account (id),
  created_at timestamptz NOT NULL DEFAULT now(),
  expires_at timestamptz NOT NULL,
  -- Who joined by it; a link is good for one.
  account_id bigint REFERENCES account (id),
  withdrawn_at timestamptz
);
