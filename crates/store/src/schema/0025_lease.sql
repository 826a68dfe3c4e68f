-- Leases on jobs: a number that rises whenever one is taken, and without which nothing is written for it.
ALTER TABLE job
    ADD COLUMN lease bigint NOT NULL DEFAULT 0,
    -- How often its worker died without getting further than before, or with nothing else at hand.
    ADD COLUMN strikes integer NOT NULL DEFAULT 0,
    -- How far the attempts before the present one got.
    ADD COLUMN furthest double precision NOT NULL DEFAULT 0,
    -- Whether its server is at nothing else.
    ADD COLUMN alone boolean NOT NULL DEFAULT true;

-- What a job made is made once, however often it is begun.
ALTER TABLE upload ADD COLUMN made_by_job bigint UNIQUE;
ALTER TABLE record_table ADD COLUMN made_by_job bigint UNIQUE;
ALTER TABLE list ADD COLUMN made_by_job bigint UNIQUE;
ALTER TABLE release_promise ADD COLUMN made_by_job bigint UNIQUE;
ALTER TABLE ledger_entry ADD COLUMN job_id bigint;
CREATE UNIQUE INDEX ON ledger_entry (job_id, study_id, chosen) WHERE job_id IS NOT NULL;

-- Versions of a table only rise, whatever becomes of the rows of earlier ones.
CREATE TABLE table_version (
    workspace_id bigint NOT NULL REFERENCES workspace ON DELETE CASCADE,
    name text NOT NULL,
    newest integer NOT NULL,
    PRIMARY KEY (workspace_id, name)
);
-- Where one was erased, a later one may have been given a number that was taken.
UPDATE record_table t SET version = n.version
FROM (SELECT id, row_number() OVER (PARTITION BY workspace_id, name ORDER BY id) AS version FROM record_table) n
WHERE n.id = t.id AND EXISTS (
    SELECT FROM record_table a JOIN record_table b
    ON a.workspace_id = b.workspace_id AND a.name = b.name AND a.version = b.version AND a.id < b.id
    WHERE a.workspace_id = t.workspace_id AND a.name = t.name
);
INSERT INTO table_version SELECT workspace_id, name, max(version) FROM record_table GROUP BY 1, 2;
CREATE UNIQUE INDEX record_table_version ON record_table (workspace_id, name, version);

-- Published lists stand under names of their own; where two were published under one, the later stands there.
UPDATE list a SET published = NULL
WHERE EXISTS (SELECT FROM list b WHERE b.published = a.published AND b.id > a.id);
ALTER TABLE list ADD CONSTRAINT list_published_once UNIQUE (published);
