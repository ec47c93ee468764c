-- Since when frontends list rules, and when the last request met each, over restarts and over all nodes.
CREATE TABLE rule_use (
    frontend VARCHAR(63) NOT NULL,
    rule     VARCHAR(63) NOT NULL,
    listed   BIGINT      NOT NULL COMMENT 'Unix milliseconds',
    last     BIGINT      NULL COMMENT 'Unix milliseconds',
    PRIMARY KEY (frontend, rule)
) ENGINE = InnoDB DEFAULT CHARSET = utf8mb4 COLLATE = utf8mb4_bin;
