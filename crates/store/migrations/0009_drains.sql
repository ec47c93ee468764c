-- Drains have deadlines, and orders say until when a server is expected to be out.
ALTER TABLE duty
    ADD COLUMN deadline BIGINT                  NULL COMMENT 'when a drain stops waiting, Unix milliseconds',
    ADD COLUMN pins     ENUM ('honour', 'move') NOT NULL DEFAULT 'honour' COMMENT 'pinned clients while the server drains',
    ADD COLUMN until_at BIGINT                  NULL COMMENT 'when the server is expected back, Unix milliseconds';
