-- What a candidate goes by: a pronoia_core::judged::Understanding, once somebody asked for it.
ALTER TABLE model ADD COLUMN understanding jsonb;
-- What the policy would be worth on a candidate made without some columns: a pronoia_core::judged::Without.
ALTER TABLE model ADD COLUMN without jsonb;
