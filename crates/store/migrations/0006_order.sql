-- Orders are put in sequence by the service that followed them, not by its clock.
ALTER TABLE duty ADD COLUMN number BIGINT UNSIGNED NOT NULL DEFAULT 0 COMMENT 'Grows with each order' AFTER who;

-- What a revision is and which one it follows, so that two of one number are told apart.
ALTER TABLE revision
    ADD COLUMN digest CHAR(64) NULL COMMENT 'SHA-256 in hexadecimal',
    ADD COLUMN parent CHAR(64) NULL COMMENT 'The digest of the revision before it';
