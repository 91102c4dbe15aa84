-- What a job is asked for is kept as JSON, so that it can be asked for again; and what each delivery shows.
ALTER TABLE jobs RENAME COLUMN argument TO request;
UPDATE jobs SET request = CASE
    WHEN kind = 'follow' AND instr(request, ' ') > 0 THEN json_object(
        'mask', CAST(substr(request, 1, instr(request, ' ') - 1) AS INTEGER),
        'frame', CAST(substr(request, instr(request, ' ') + 1) AS INTEGER))
    ELSE '{}' END;

CREATE TABLE deliveries (
    id INTEGER PRIMARY KEY AUTOINCREMENT,
    shot_id INTEGER NOT NULL REFERENCES shots (id) ON DELETE CASCADE,
    kind TEXT NOT NULL,
    -- The revision that it shows; gone where that is gone.
    revision_id INTEGER REFERENCES revisions (id) ON DELETE SET NULL,
    -- Names all that can be seen in it.
    shows TEXT NOT NULL,
    created_ms INTEGER NOT NULL
) STRICT;
CREATE INDEX deliveries_by_shot ON deliveries (shot_id, id);
