-- Nodes say who they are and what they run, and count what they wrote that the others follow.
ALTER TABLE node
    ADD COLUMN name    VARCHAR(63)     NOT NULL DEFAULT '' AFTER id,
    ADD COLUMN changes BIGINT UNSIGNED NOT NULL DEFAULT 0 COMMENT 'grows with whatever the node wrote that others follow',
    ADD COLUMN slot    TINYINT UNSIGNED NULL UNIQUE COMMENT 'its place among the nodes: no two make the same number',
    ADD COLUMN report  LONGTEXT        NOT NULL DEFAULT '{}' COMMENT 'what the node says of itself, as JSON';

-- At the end of the row, which takes no time however many events there are.
ALTER TABLE event ADD COLUMN node VARCHAR(63) NOT NULL DEFAULT '' COMMENT 'name of the node that wrote it';

-- Orders name the one that they took the place of, so that two that were given at once on two nodes are noticed.
ALTER TABLE duty ADD COLUMN follows BIGINT UNSIGNED NOT NULL DEFAULT 0 COMMENT 'number of the order that stood before' AFTER number;

-- Secrets that nodes share, sealed with the key that stands in the state folder of each node.
CREATE TABLE shared_secret (
    name   VARCHAR(63)     NOT NULL PRIMARY KEY,
    number BIGINT UNSIGNED NOT NULL COMMENT 'grows with each change',
    sealed BLOB            NOT NULL
) ENGINE = InnoDB DEFAULT CHARSET = utf8mb4 COLLATE = utf8mb4_bin;
