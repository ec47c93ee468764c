-- Plans of maintenance: windows and rolls. Of two plans of one name the one with the larger number counts.
CREATE TABLE plan (
    kind   ENUM ('window', 'roll') NOT NULL,
    name   VARCHAR(63)             NOT NULL COMMENT 'name of a window, number of a roll',
    number BIGINT UNSIGNED         NOT NULL COMMENT 'grows with each change',
    body   LONGTEXT                NULL COMMENT 'the plan as JSON; NULL when it was removed',
    PRIMARY KEY (kind, name)
) ENGINE = InnoDB DEFAULT CHARSET = utf8mb4 COLLATE = utf8mb4_bin;

-- The window that gave an order.
ALTER TABLE duty ADD COLUMN window_name VARCHAR(63) NULL COMMENT 'window that gave the order';
