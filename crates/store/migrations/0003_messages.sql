-- Messages to people: what is on its way, and what was delivered or given up.
CREATE TABLE message (
    id       BIGINT UNSIGNED NOT NULL PRIMARY KEY,
    name     VARCHAR(63)     NOT NULL COMMENT 'of the message in the document',
    via      ENUM ('webhook', 'mail') NOT NULL,
    at       BIGINT          NOT NULL COMMENT 'Unix milliseconds',
    body     JSON            NOT NULL,
    tries    INT UNSIGNED    NOT NULL,
    next_try BIGINT          NULL COMMENT 'Unix milliseconds; NULL when it is over',
    done     BIGINT          NULL COMMENT 'Unix milliseconds of its delivery',
    why      VARCHAR(1000)   NULL COMMENT 'why the last try failed',
    KEY by_next_try (next_try)
);
