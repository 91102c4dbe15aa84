-- A revision costs about what it changes: its document may be a patch (RFC 6902) on that of another revision.
ALTER TABLE revisions ADD COLUMN patch_of INTEGER REFERENCES revisions (id);
-- Patches between it and a whole document.
ALTER TABLE revisions ADD COLUMN patches INTEGER NOT NULL DEFAULT 0;
