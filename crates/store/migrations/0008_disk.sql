-- What a replica had written to its root file system, in bytes.
ALTER TABLE usage ADD COLUMN disk bigint NOT NULL DEFAULT 0;
