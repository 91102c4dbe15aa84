-- Fonts are files that inserts use as well: the kinds are checked anew.
CREATE TABLE assets_of_all_kinds (
    name TEXT PRIMARY KEY,
    file TEXT NOT NULL,
    kind TEXT NOT NULL CHECK (kind IN ('picture', 'clip', 'model', 'font')),
    -- What the media layer knows of it.
    info TEXT NOT NULL CHECK (json_valid(info)),
    created_ms INTEGER NOT NULL
) STRICT;
INSERT INTO assets_of_all_kinds SELECT name, file, kind, info, created_ms FROM assets;
DROP TABLE assets;
ALTER TABLE assets_of_all_kinds RENAME TO assets;
