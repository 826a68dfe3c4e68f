CREATE TABLE account (
    id bigserial PRIMARY KEY,
    email text NOT NULL UNIQUE,
    password_hash text NOT NULL,
    created_at timestamptz NOT NULL DEFAULT now()
);

CREATE TABLE workspace (
    id bigserial PRIMARY KEY,
    name text NOT NULL,
    made_up boolean NOT NULL DEFAULT false,
    created_at timestamptz NOT NULL DEFAULT now()
);

CREATE TABLE membership (
    account_id bigint NOT NULL REFERENCES account ON DELETE CASCADE,
    workspace_id bigint NOT NULL REFERENCES workspace ON DELETE CASCADE,
    PRIMARY KEY (account_id, workspace_id)
);

-- Only the digest of a session's token is kept.
CREATE TABLE session (
    token_digest text PRIMARY KEY,
    account_id bigint NOT NULL REFERENCES account ON DELETE CASCADE,
    csrf text NOT NULL,
    created_at timestamptz NOT NULL DEFAULT now(),
    expires_at timestamptz NOT NULL
);

CREATE TABLE sign_in_attempt (
    id bigserial PRIMARY KEY,
    email text NOT NULL,
    address text NOT NULL,
    at timestamptz NOT NULL DEFAULT now()
);
CREATE INDEX sign_in_attempt_recent ON sign_in_attempt (at);

CREATE TABLE upload (
    id bigserial PRIMARY KEY,
    workspace_id bigint NOT NULL REFERENCES workspace ON DELETE CASCADE,
    study_id bigint,
    file_name text NOT NULL,
    path text NOT NULL,
    size bigint NOT NULL,
    state text NOT NULL,
    scan jsonb,
    error text,
    table_id bigint,
    created_at timestamptz NOT NULL DEFAULT now()
);

-- A row exists only once its records are there whole.
CREATE TABLE record_table (
    id bigserial PRIMARY KEY,
    workspace_id bigint NOT NULL REFERENCES workspace ON DELETE CASCADE,
    name text NOT NULL,
    version integer NOT NULL,
    rows bigint NOT NULL,
    columns jsonb NOT NULL,
    source jsonb NOT NULL,
    profile jsonb NOT NULL,
    is_list boolean NOT NULL DEFAULT false,
    made_up boolean NOT NULL DEFAULT false,
    created_at timestamptz NOT NULL DEFAULT now()
);

CREATE TABLE study (
    id bigserial PRIMARY KEY,
    workspace_id bigint NOT NULL REFERENCES workspace ON DELETE CASCADE,
    table_id bigint NOT NULL REFERENCES record_table,
    title text NOT NULL,
    question text NOT NULL,
    state jsonb NOT NULL,
    revision bigint NOT NULL DEFAULT 0,
    test_openings integer NOT NULL DEFAULT 0,
    confirmation jsonb,
    created_at timestamptz NOT NULL DEFAULT now()
);

CREATE TABLE model (
    id bigserial PRIMARY KEY,
    study_id bigint NOT NULL REFERENCES study ON DELETE CASCADE,
    name text NOT NULL,
    settings jsonb NOT NULL,
    basis jsonb NOT NULL,
    seed bigint NOT NULL,
    state text NOT NULL,
    artefact bytea,
    evaluation jsonb,
    ranking jsonb,
    fit_seconds double precision,
    error text,
    retired boolean NOT NULL DEFAULT false,
    created_at timestamptz NOT NULL DEFAULT now()
);
CREATE INDEX model_of_study ON model (study_id);

CREATE TABLE list (
    id bigserial PRIMARY KEY,
    study_id bigint NOT NULL REFERENCES study ON DELETE CASCADE,
    table_id bigint NOT NULL REFERENCES record_table,
    model_id bigint NOT NULL REFERENCES model,
    cut_off double precision NOT NULL,
    report jsonb NOT NULL,
    state text NOT NULL,
    scored_id bigint REFERENCES record_table,
    acted bigint,
    created_at timestamptz NOT NULL DEFAULT now()
);
CREATE INDEX list_of_study ON list (study_id);

CREATE TABLE ledger_entry (
    id bigserial PRIMARY KEY,
    study_id bigint NOT NULL REFERENCES study ON DELETE CASCADE,
    account_id bigint REFERENCES account,
    chosen text NOT NULL,
    figure text NOT NULL,
    before jsonb,
    taken_back_at timestamptz,
    created_at timestamptz NOT NULL DEFAULT now()
);
CREATE INDEX ledger_entry_of_study ON ledger_entry (study_id, id);

CREATE TABLE job (
    id bigserial PRIMARY KEY,
    workspace_id bigint NOT NULL REFERENCES workspace ON DELETE CASCADE,
    study_id bigint,
    title text NOT NULL,
    work jsonb NOT NULL,
    state text NOT NULL DEFAULT 'queued',
    stage text NOT NULL DEFAULT 'Waiting for its turn',
    share double precision NOT NULL DEFAULT 0,
    cancel_requested boolean NOT NULL DEFAULT false,
    attempts integer NOT NULL DEFAULT 0,
    worker text,
    heartbeat_at timestamptz,
    outcome text,
    created_at timestamptz NOT NULL DEFAULT now(),
    started_at timestamptz,
    finished_at timestamptz
);
CREATE INDEX job_waiting ON job (id) WHERE state IN ('queued', 'running');
