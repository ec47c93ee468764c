-- Accounts at authorities of certificates. What is secret in them is sealed with a key that stands in the state folder of each node.
CREATE TABLE authority_account (
    name      VARCHAR(63)  NOT NULL PRIMARY KEY COMMENT 'the authority, as in the document',
    directory VARCHAR(512) NOT NULL COMMENT 'URL of the directory that the account is for',
    sealed    BLOB         NOT NULL COMMENT 'the account and its key'
) ENGINE = InnoDB DEFAULT CHARSET = utf8mb4 COLLATE = utf8mb4_bin;

-- Certificates that were ordered, the newest of each name.
CREATE TABLE issued_certificate (
    name      VARCHAR(63) NOT NULL PRIMARY KEY COMMENT 'the certificate, as in the document',
    not_after BIGINT      NOT NULL COMMENT 'when it ends, Unix milliseconds',
    chain     MEDIUMTEXT  NOT NULL COMMENT 'PEM, the certificate first',
    sealed    BLOB        NOT NULL COMMENT 'the private key'
) ENGINE = InnoDB DEFAULT CHARSET = utf8mb4 COLLATE = utf8mb4_bin;

-- Work that one node does for all: whose it is, and until when, by the database's clock.
CREATE TABLE lease (
    work   VARCHAR(127) NOT NULL PRIMARY KEY,
    holder BINARY(16)   NOT NULL COMMENT 'the node',
    until  DATETIME(3)  NOT NULL
) ENGINE = InnoDB DEFAULT CHARSET = utf8mb4 COLLATE = utf8mb4_bin;
