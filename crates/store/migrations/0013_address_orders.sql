-- Orders for addresses that move between nodes, and for whole nodes, stand beside windows and rolls.
ALTER TABLE plan
    MODIFY COLUMN kind ENUM ('window', 'roll', 'address', 'node') NOT NULL,
    MODIFY COLUMN name VARCHAR(63) NOT NULL COMMENT 'name of a window, an address or a node, number of a roll';
