-- What was seen of a study's rows beside its drivers; written with them.
ALTER TABLE finding ADD COLUMN survey jsonb NOT NULL DEFAULT '{}';
