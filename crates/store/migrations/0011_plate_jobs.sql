-- Two more kinds of jobs: what is looked at on the plate.
CREATE TABLE jobs_now (
    id INTEGER PRIMARY KEY AUTOINCREMENT,
    shot_id INTEGER NOT NULL REFERENCES shots (id) ON DELETE CASCADE,
    kind TEXT NOT NULL CHECK (kind IN ('decode', 'track', 'solve', 'refine', 'analyse', 'follow',
        'measure', 'draw', 'deliver')),
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
