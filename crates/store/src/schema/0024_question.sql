-- The roles by which questions in SQL are asked, one for each workspace. Roles belong to the whole server, so that the
-- database is part of what tells them apart.
CREATE TABLE question_role (
    workspace_id bigint PRIMARY KEY REFERENCES workspace ON DELETE CASCADE,
    role text NOT NULL,
    password text NOT NULL
);

-- What the account of a source could change there, in words, when it was last looked at; empty if nothing.
ALTER TABLE source ADD COLUMN may_write text NOT NULL DEFAULT '';
