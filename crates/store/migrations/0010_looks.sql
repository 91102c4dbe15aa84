-- Tables of colours are files as well: the kinds are checked anew.
CREATE TABLE assets_of_all_kinds (
    name TEXT PRIMARY KEY,
    file TEXT NOT NULL,
    kind TEXT NOT NULL CHECK (kind IN ('picture', 'clip', 'model', 'font', 'table')),
    -- What the media layer knows of it.
    info TEXT NOT NULL CHECK (json_valid(info)),
    created_ms INTEGER NOT NULL
) STRICT;
INSERT INTO assets_of_all_kinds SELECT name, file, kind, info, created_ms FROM assets;
DROP TABLE assets;
ALTER TABLE assets_of_all_kinds RENAME TO assets;
-- Looks: settings that are kept by a name and used on any shot.
CREATE TABLE looks (
    name TEXT PRIMARY KEY,
    settings TEXT NOT NULL CHECK (json_valid(settings)),
    created_ms INTEGER NOT NULL
) STRICT;
