-- What a revision changed, in a line; empty for one of an older release.
ALTER TABLE revision ADD COLUMN changed VARCHAR(1000) NOT NULL DEFAULT '';
