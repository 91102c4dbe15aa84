-- What was found of the scene is kept beside the solve that it was found in. Run with foreign keys off.
CREATE TABLE analyses_now (
    id INTEGER PRIMARY KEY AUTOINCREMENT,
    shot_id INTEGER NOT NULL REFERENCES shots (id) ON DELETE CASCADE,
    kind TEXT NOT NULL CHECK (kind IN ('tracks', 'solve', 'survey')),
    settings TEXT NOT NULL CHECK (json_valid(settings)),
    file TEXT NOT NULL,
    name TEXT NOT NULL DEFAULT '',
    reading TEXT NOT NULL DEFAULT '',
    -- The track run that a solve comes from, or the solve that a survey does.
    source INTEGER REFERENCES analyses (id),
    trim_first INTEGER,
    trim_last INTEGER,
    created_ms INTEGER NOT NULL
) STRICT;
INSERT INTO analyses_now (id, shot_id, kind, settings, file, name, reading, source, trim_first, trim_last, created_ms)
    SELECT id, shot_id, kind, settings, file, name, reading, source, trim_first, trim_last, created_ms FROM analyses;
DROP TABLE analyses;
ALTER TABLE analyses_now RENAME TO analyses;
CREATE INDEX analyses_by_shot ON analyses (shot_id);

-- One job may do all of an analysis.
CREATE TABLE jobs_now (
    id INTEGER PRIMARY KEY AUTOINCREMENT,
    shot_id INTEGER NOT NULL REFERENCES shots (id) ON DELETE CASCADE,
    kind TEXT NOT NULL CHECK (kind IN ('decode', 'track', 'solve', 'refine', 'analyse', 'follow', 'deliver')),
    state TEXT NOT NULL CHECK (state IN ('waiting', 'running', 'done', 'failed', 'stopped', 'interrupted')),
    done INTEGER NOT NULL DEFAULT 0,
    total INTEGER NOT NULL DEFAULT 0,
    message TEXT NOT NULL DEFAULT '',
    request TEXT NOT NULL DEFAULT '',
    created_ms INTEGER NOT NULL,
    changed_ms INTEGER NOT NULL
) STRICT;
INSERT INTO jobs_now (id, shot_id, kind, state, done, total, message, request, created_ms, changed_ms)
    SELECT id, shot_id, kind, state, done, total, message, request, created_ms, changed_ms FROM jobs;
DROP TABLE jobs;
ALTER TABLE jobs_now RENAME TO jobs;
CREATE INDEX jobs_by_shot ON jobs (shot_id, id);
