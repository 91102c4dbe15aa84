-- Solves are kept under a name with a reading, and know the track run that they come from.
ALTER TABLE analyses ADD COLUMN name TEXT NOT NULL DEFAULT '';
ALTER TABLE analyses ADD COLUMN reading TEXT NOT NULL DEFAULT '';
ALTER TABLE analyses ADD COLUMN source INTEGER REFERENCES analyses (id);
