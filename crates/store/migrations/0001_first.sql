-- Revisions: the whole document, one row each, never changed.
CREATE TABLE revision (
    number   BIGINT UNSIGNED NOT NULL PRIMARY KEY,
    document JSON            NOT NULL,
    author   VARCHAR(100)    NOT NULL,
    note     VARCHAR(1000)   NOT NULL,
    at       BIGINT          NOT NULL COMMENT 'Unix milliseconds'
);

-- Duties: what the operators said last of each server that they ever spoke of.
CREATE TABLE duty (
    pool   VARCHAR(63)  NOT NULL,
    server VARCHAR(63)  NOT NULL,
    duty   ENUM ('in_service', 'draining', 'withdrawn') NOT NULL,
    reason VARCHAR(500) NOT NULL,
    who    VARCHAR(100) NOT NULL,
    at     BIGINT       NOT NULL COMMENT 'Unix milliseconds',
    PRIMARY KEY (pool, server)
);

-- Events: dated facts. The number is made by the service, so that writing one twice leaves one.
CREATE TABLE event (
    id      BIGINT UNSIGNED NOT NULL PRIMARY KEY,
    at      BIGINT          NOT NULL COMMENT 'Unix milliseconds',
    kind    VARCHAR(20)     NOT NULL,
    subject VARCHAR(200)    NOT NULL,
    says    TEXT            NOT NULL,
    detail  JSON            NOT NULL,
    KEY by_subject (subject, id)
);

-- Trials that are over, as the API shows them.
CREATE TABLE trial (
    id    BIGINT UNSIGNED NOT NULL PRIMARY KEY,
    trial JSON            NOT NULL
);

-- Tokens: only the SHA-256 of each, in hexadecimal.
CREATE TABLE token (
    hash CHAR(64)     NOT NULL PRIMARY KEY,
    name VARCHAR(100) NOT NULL,
    at   BIGINT       NOT NULL COMMENT 'Unix milliseconds'
);
