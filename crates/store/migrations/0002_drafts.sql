-- Which warnings were accepted when a revision was made.
ALTER TABLE revision ADD COLUMN accepted JSON NOT NULL DEFAULT '[]';

-- Drafts: changes on the way to becoming a revision.
CREATE TABLE draft (
    name     VARCHAR(63)     NOT NULL PRIMARY KEY,
    owner    VARCHAR(100)    NOT NULL,
    note     VARCHAR(1000)   NOT NULL,
    base     BIGINT UNSIGNED NOT NULL COMMENT 'The revision that it began from',
    document JSON            NOT NULL,
    accepted JSON            NOT NULL,
    version  BIGINT UNSIGNED NOT NULL COMMENT 'Grows with each change, so that no writer overwrites another',
    created  BIGINT          NOT NULL COMMENT 'Unix milliseconds',
    changed  BIGINT          NOT NULL COMMENT 'Unix milliseconds'
);
