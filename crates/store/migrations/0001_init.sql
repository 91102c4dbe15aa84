-- A clip that was taken in: one folder of files, shared by all shots made from it.
CREATE TABLE clips (
    id INTEGER PRIMARY KEY,
    name TEXT NOT NULL,
    folder TEXT NOT NULL UNIQUE,
    info TEXT NOT NULL CHECK (json_valid(info)),
    frames INTEGER NOT NULL CHECK (frames >= 0),
    proxies INTEGER NOT NULL CHECK (proxies IN (0, 1)),
    created_ms INTEGER NOT NULL
) STRICT;

CREATE TABLE shots (
    id INTEGER PRIMARY KEY,
    name TEXT NOT NULL CHECK (length(name) BETWEEN 1 AND 200),
    clip_id INTEGER NOT NULL REFERENCES clips (id),
    head INTEGER REFERENCES revisions (id) DEFERRABLE INITIALLY DEFERRED,
    created_ms INTEGER NOT NULL
) STRICT;

-- Every edit makes a revision; undo and redo move the head of the shot along the tree.
CREATE TABLE revisions (
    id INTEGER PRIMARY KEY,
    shot_id INTEGER NOT NULL REFERENCES shots (id) ON DELETE CASCADE,
    parent INTEGER REFERENCES revisions (id),
    label TEXT NOT NULL,
    document TEXT NOT NULL CHECK (json_valid(document)),
    created_ms INTEGER NOT NULL
) STRICT;
CREATE INDEX revisions_by_parent ON revisions (parent);

-- Finished track runs and solves; their bulk data is in the named file beside the database.
CREATE TABLE analyses (
    id INTEGER PRIMARY KEY,
    shot_id INTEGER NOT NULL REFERENCES shots (id) ON DELETE CASCADE,
    kind TEXT NOT NULL CHECK (kind IN ('tracks', 'solve')),
    settings TEXT NOT NULL CHECK (json_valid(settings)),
    file TEXT NOT NULL,
    created_ms INTEGER NOT NULL
) STRICT;

CREATE TABLE jobs (
    id INTEGER PRIMARY KEY,
    shot_id INTEGER NOT NULL REFERENCES shots (id) ON DELETE CASCADE,
    kind TEXT NOT NULL CHECK (kind IN ('decode', 'track', 'solve', 'deliver')),
    state TEXT NOT NULL CHECK (state IN ('waiting', 'running', 'done', 'failed', 'stopped', 'interrupted')),
    done INTEGER NOT NULL DEFAULT 0,
    total INTEGER NOT NULL DEFAULT 0,
    message TEXT NOT NULL DEFAULT '',
    created_ms INTEGER NOT NULL,
    changed_ms INTEGER NOT NULL
) STRICT;
CREATE INDEX jobs_by_shot ON jobs (shot_id, id);
