-- Ids are never used twice (AUTOINCREMENT), a deleted shot can be brought back for a while, a clip remembers how many frames were expected
-- of it, and an analysis the part of the clip that it was made from. Run with foreign keys off.
CREATE TABLE clips_now (
    id INTEGER PRIMARY KEY AUTOINCREMENT,
    name TEXT NOT NULL,
    folder TEXT NOT NULL UNIQUE,
    info TEXT NOT NULL CHECK (json_valid(info)),
    frames INTEGER NOT NULL CHECK (frames >= 0),
    estimated INTEGER NOT NULL CHECK (estimated >= 0),
    proxies INTEGER NOT NULL CHECK (proxies IN (0, 1)),
    created_ms INTEGER NOT NULL
) STRICT;
INSERT INTO clips_now (id, name, folder, info, frames, estimated, proxies, created_ms)
    SELECT id, name, folder, info, frames, frames, proxies, created_ms FROM clips;
DROP TABLE clips;
ALTER TABLE clips_now RENAME TO clips;

CREATE TABLE shots_now (
    id INTEGER PRIMARY KEY AUTOINCREMENT,
    name TEXT NOT NULL CHECK (length(name) BETWEEN 1 AND 200),
    clip_id INTEGER NOT NULL REFERENCES clips (id),
    head INTEGER REFERENCES revisions (id) DEFERRABLE INITIALLY DEFERRED,
    deleted_ms INTEGER,
    created_ms INTEGER NOT NULL
) STRICT;
INSERT INTO shots_now (id, name, clip_id, head, created_ms) SELECT id, name, clip_id, head, created_ms FROM shots;
DROP TABLE shots;
ALTER TABLE shots_now RENAME TO shots;

CREATE TABLE revisions_now (
    id INTEGER PRIMARY KEY AUTOINCREMENT,
    shot_id INTEGER NOT NULL REFERENCES shots (id) ON DELETE CASCADE,
    parent INTEGER REFERENCES revisions (id),
    label TEXT NOT NULL,
    document TEXT NOT NULL CHECK (json_valid(document)),
    created_ms INTEGER NOT NULL
) STRICT;
INSERT INTO revisions_now (id, shot_id, parent, label, document, created_ms)
    SELECT id, shot_id, parent, label, document, created_ms FROM revisions;
DROP TABLE revisions;
ALTER TABLE revisions_now RENAME TO revisions;
CREATE INDEX revisions_by_parent ON revisions (parent);
CREATE INDEX revisions_by_shot ON revisions (shot_id);

CREATE TABLE analyses_now (
    id INTEGER PRIMARY KEY AUTOINCREMENT,
    shot_id INTEGER NOT NULL REFERENCES shots (id) ON DELETE CASCADE,
    kind TEXT NOT NULL CHECK (kind IN ('tracks', 'solve')),
    settings TEXT NOT NULL CHECK (json_valid(settings)),
    file TEXT NOT NULL,
    name TEXT NOT NULL DEFAULT '',
    reading TEXT NOT NULL DEFAULT '',
    source INTEGER REFERENCES analyses (id),
    trim_first INTEGER,
    trim_last INTEGER,
    created_ms INTEGER NOT NULL
) STRICT;
INSERT INTO analyses_now (id, shot_id, kind, settings, file, name, reading, source, created_ms)
    SELECT id, shot_id, kind, settings, file, name, reading, source, created_ms FROM analyses;
-- What an earlier version made belongs to the trim of the revisions that used it.
UPDATE analyses_now SET
    trim_first = (SELECT json_extract(r.document, '$.trim.first') FROM revisions r WHERE r.shot_id = analyses_now.shot_id
        AND (json_extract(r.document, '$.solve') = analyses_now.id OR json_extract(r.document, '$.tracks') = analyses_now.id) LIMIT 1),
    trim_last = (SELECT json_extract(r.document, '$.trim.last') FROM revisions r WHERE r.shot_id = analyses_now.shot_id
        AND (json_extract(r.document, '$.solve') = analyses_now.id OR json_extract(r.document, '$.tracks') = analyses_now.id) LIMIT 1);
DROP TABLE analyses;
ALTER TABLE analyses_now RENAME TO analyses;
CREATE INDEX analyses_by_shot ON analyses (shot_id);

CREATE TABLE jobs_now (
    id INTEGER PRIMARY KEY AUTOINCREMENT,
    shot_id INTEGER NOT NULL REFERENCES shots (id) ON DELETE CASCADE,
    kind TEXT NOT NULL CHECK (kind IN ('decode', 'track', 'solve', 'refine', 'follow', 'deliver')),
    state TEXT NOT NULL CHECK (state IN ('waiting', 'running', 'done', 'failed', 'stopped', 'interrupted')),
    done INTEGER NOT NULL DEFAULT 0,
    total INTEGER NOT NULL DEFAULT 0,
    message TEXT NOT NULL DEFAULT '',
    argument TEXT NOT NULL DEFAULT '',
    created_ms INTEGER NOT NULL,
    changed_ms INTEGER NOT NULL
) STRICT;
INSERT INTO jobs_now (id, shot_id, kind, state, done, total, message, argument, created_ms, changed_ms)
    SELECT id, shot_id, kind, state, done, total, message, argument, created_ms, changed_ms FROM jobs;
DROP TABLE jobs;
ALTER TABLE jobs_now RENAME TO jobs;
CREATE INDEX jobs_by_shot ON jobs (shot_id, id);
