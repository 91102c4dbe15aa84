-- Files that inserts show, by their content; they belong to no shot alone.
CREATE TABLE assets (
    name TEXT PRIMARY KEY,
    file TEXT NOT NULL,
    kind TEXT NOT NULL CHECK (kind IN ('picture', 'clip', 'model')),
    -- What the media layer knows of it.
    info TEXT NOT NULL CHECK (json_valid(info)),
    created_ms INTEGER NOT NULL
) STRICT;
