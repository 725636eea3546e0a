-- The change feed is whole from here on; before it only people's acts are kept.
ALTER TABLE ledger ADD COLUMN kept_from bigint NOT NULL DEFAULT 0;
