-- When a token was used last, and when it was taken back.
ALTER TABLE token
    ADD COLUMN used    BIGINT NULL COMMENT 'Unix milliseconds',
    ADD COLUMN revoked BIGINT NULL COMMENT 'Unix milliseconds';

-- The hash of an empty text: a start on a full disk could have made a token of it.
DELETE FROM token WHERE hash = 'e3b0c44298fc1c149afbf4c8996fb92427ae41e4649b934ca495991b7852b855';
