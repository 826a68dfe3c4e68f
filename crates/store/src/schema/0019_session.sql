-- What tells the sessions of one account apart.
ALTER TABLE session ADD COLUMN id bigserial UNIQUE;
ALTER TABLE session ADD COLUMN address text NOT NULL DEFAULT '';
ALTER TABLE session ADD COLUMN agent text NOT NULL DEFAULT '';
