-- What was said about the columns of a list: pronoia_core::score::Answers.
ALTER TABLE list ADD COLUMN answers jsonb NOT NULL DEFAULT '{}';
-- What its scored form holds besides: pronoia_core::score::Extras.
ALTER TABLE list ADD COLUMN extras jsonb NOT NULL DEFAULT '{}';
-- What acting on those to be acted on is expected to gain.
ALTER TABLE list ADD COLUMN gain double precision;
-- For how many customers an amount had no value.
ALTER TABLE list ADD COLUMN lacking bigint NOT NULL DEFAULT 0;
-- Until now, columns were paired by their names alone.
UPDATE list SET report = jsonb_set(report, '{inputs}', (
  SELECT coalesce(jsonb_agg((input - 'found') || jsonb_build_object('paired', CASE
    WHEN input ->> 'found' IS NULL THEN '{"open": null}'::jsonb
    WHEN input ->> 'found' = input ->> 'name' THEN '"name"'::jsonb
    ELSE jsonb_build_object('spelling', input ->> 'found')
  END) ORDER BY at), '[]'::jsonb)
  FROM jsonb_array_elements(report -> 'inputs') WITH ORDINALITY AS one (input, at)
));
