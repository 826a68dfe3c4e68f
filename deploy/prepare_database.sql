-- What Pronoia needs done once, in its own database, by a superuser of the server:
--
--     psql -v account=pronoia_server -v password=SECRET -f deploy/prepare_database.sql THE_DATABASE
--
-- It may be run again at any time, and has to be after an upgrade of PostgreSQL. It
--   1. makes the account that `pronoia serve` signs in with: no superuser, may make roles;
--   2. gives it the database and everything in it;
--   3. takes from everybody else what questions in SQL must not reach: large objects, advisory locks, waiting,
--      settings, files, definitions, and the catalogues, which hold the names of everybody's tables;
--   4. limits the temporary files of everybody but the account.
-- Others that read this database, for published lists, need the catalogues as a rule:
--     GRANT pronoia_catalogues TO their_account;
\set ON_ERROR_STOP on
\set QUIET on
\o /dev/null
SET client_min_messages = warning;
BEGIN;
-- One at a time, for roles belong to the whole server.
LOCK TABLE pg_catalog.pg_authid IN SHARE ROW EXCLUSIVE MODE;

SELECT set_config('pronoia.account', :'account', true), set_config('pronoia.password', :'password', true);
DO $$
DECLARE
    account text := current_setting('pronoia.account');
    password text := current_setting('pronoia.password');
BEGIN
    IF NOT EXISTS (SELECT FROM pg_catalog.pg_roles WHERE rolname = 'pronoia_catalogues') THEN
        CREATE ROLE pronoia_catalogues NOLOGIN;
    END IF;
    IF NOT EXISTS (SELECT FROM pg_catalog.pg_roles WHERE rolname = account) THEN
        EXECUTE format('CREATE ROLE %I LOGIN NOSUPERUSER NOCREATEDB CREATEROLE PASSWORD %L', account, password);
    ELSIF (SELECT rolsuper FROM pg_catalog.pg_roles WHERE rolname = account) THEN
        RAISE EXCEPTION 'The account % is a superuser. Name another one for Pronoia.', account;
    ELSE
        EXECUTE format('ALTER ROLE %I LOGIN CREATEROLE PASSWORD %L', account, password);
    END IF;
    EXECUTE format('GRANT pronoia_catalogues TO %I', account);
END
$$;

-- The database and what is in it belong to the account. Roles and views that an earlier version made for questions as
-- a superuser go; they are made again where they are needed.
DO $$
DECLARE
    account text := current_setting('pronoia.account');
    own oid := (SELECT oid FROM pg_catalog.pg_roles WHERE rolname = current_setting('pronoia.account'));
    here oid := (SELECT oid FROM pg_catalog.pg_database WHERE datname = current_database());
    it record;
BEGIN
    IF EXISTS (SELECT FROM pg_catalog.pg_namespace WHERE nspname ~ '^ask_[0-9]+$' AND nspowner <> own) THEN
        FOR it IN SELECT nspname FROM pg_catalog.pg_namespace WHERE nspname ~ '^ask_[0-9]+$' LOOP
            EXECUTE format('DROP SCHEMA %I CASCADE', it.nspname);
        END LOOP;
        FOR it IN SELECT rolname FROM pg_catalog.pg_roles WHERE rolname LIKE 'pronoia\_reads\_' || here || '\_%' LOOP
            EXECUTE format('DROP OWNED BY %I', it.rolname);
            EXECUTE format('DROP ROLE %I', it.rolname);
        END LOOP;
    END IF;
    EXECUTE format('ALTER DATABASE %I OWNER TO %I', current_database(), account);
    FOR it IN SELECT nspname FROM pg_catalog.pg_namespace
        WHERE nspname <> 'information_schema' AND nspname !~ '^pg_' AND nspowner <> own
    LOOP
        EXECUTE format('ALTER SCHEMA %I OWNER TO %I', it.nspname, account);
    END LOOP;
    FOR it IN SELECT c.oid::regclass AS name, c.relkind FROM pg_catalog.pg_class c
        JOIN pg_catalog.pg_namespace n ON n.oid = c.relnamespace
        WHERE n.nspname <> 'information_schema' AND n.nspname !~ '^pg_' AND c.relkind IN ('r', 'p', 'v', 'm', 'S')
        AND c.relowner <> own
        AND NOT EXISTS (SELECT FROM pg_catalog.pg_depend d WHERE d.classid = 'pg_catalog.pg_class'::regclass
            AND d.objid = c.oid AND c.relkind = 'S' AND d.deptype IN ('a', 'i'))
    LOOP
        EXECUTE format('ALTER %s %s OWNER TO %I',
            CASE it.relkind WHEN 'v' THEN 'VIEW' WHEN 'm' THEN 'MATERIALIZED VIEW' WHEN 'S' THEN 'SEQUENCE' ELSE 'TABLE' END,
            it.name, account);
    END LOOP;
END
$$;

-- What everybody may do with the catalogues and with functions that do more than compute, only the role may do
-- from now on.
DO $$
DECLARE
    it record;
    -- Functions that depend on the settings of a session or on the clock, and do nothing but compute with it.
    harmless text[] := ARRAY['age', 'clock_timestamp', 'concat', 'concat_ws', 'date', 'date_bin', 'date_part',
        'date_trunc', 'extract', 'generate_series', 'isfinite', 'make_timestamptz', 'now', 'pg_backend_pid', 'random',
        'statement_timestamp', 'text', 'timezone', 'to_char', 'to_date', 'to_number', 'to_timestamp',
        'transaction_timestamp', 'timestamp', 'timestamptz', 'time', 'timetz', 'interval'];
BEGIN
    FOR it IN SELECT c.oid::regclass AS name FROM pg_catalog.pg_class c
        WHERE c.relnamespace IN ('pg_catalog'::regnamespace, 'information_schema'::regnamespace)
        AND c.relkind IN ('r', 'v') AND has_table_privilege('public', c.oid, 'SELECT')
    LOOP
        EXECUTE format('GRANT SELECT ON %s TO pronoia_catalogues', it.name);
        EXECUTE format('REVOKE SELECT ON %s FROM PUBLIC', it.name);
    END LOOP;
    FOR it IN SELECT p.oid::regprocedure AS name FROM pg_catalog.pg_proc p
        WHERE p.pronamespace = 'pg_catalog'::regnamespace AND p.prokind = 'f' AND p.provolatile <> 'i'
        AND has_function_privilege('public', p.oid, 'EXECUTE')
        AND p.proname <> ALL (harmless)
        AND NOT EXISTS (SELECT FROM pg_catalog.pg_operator o WHERE o.oprcode = p.oid OR o.oprrest = p.oid OR o.oprjoin = p.oid)
        AND NOT EXISTS (SELECT FROM pg_catalog.pg_cast c WHERE c.castfunc = p.oid)
        AND NOT EXISTS (SELECT FROM pg_catalog.pg_aggregate a
            WHERE p.oid IN (a.aggtransfn, a.aggfinalfn, a.aggcombinefn, a.aggserialfn, a.aggdeserialfn, a.aggmtransfn,
                a.aggminvtransfn, a.aggmfinalfn))
        AND NOT EXISTS (SELECT FROM pg_catalog.pg_amproc a WHERE a.amproc = p.oid)
    LOOP
        EXECUTE format('GRANT EXECUTE ON FUNCTION %s TO pronoia_catalogues', it.name);
        EXECUTE format('REVOKE EXECUTE ON FUNCTION %s FROM PUBLIC', it.name);
    END LOOP;
    EXECUTE format('REVOKE TEMPORARY ON DATABASE %I FROM PUBLIC', current_database());
    REVOKE CREATE ON SCHEMA public FROM PUBLIC;
    EXECUTE format('ALTER DATABASE %I SET temp_file_limit = %L', current_database(), '512MB');
    EXECUTE format('ALTER ROLE %I IN DATABASE %I SET temp_file_limit = -1',
        current_setting('pronoia.account'), current_database());
END
$$;
COMMIT;
