-- Nodes that share the database, each with the time of its last sign of life.
CREATE TABLE node (
    id   BINARY(16)  NOT NULL PRIMARY KEY,
    seen DATETIME(3) NOT NULL
);
