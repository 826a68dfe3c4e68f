-- Where a scored list stands as a table that other programs read.
ALTER TABLE list ADD COLUMN published text;
