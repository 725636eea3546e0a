-- Which control decides, for how long, and where it answers. The database's clock alone counts.
ALTER TABLE ledger ADD COLUMN url text NOT NULL DEFAULT '';
ALTER TABLE ledger ADD COLUMN lease_until timestamptz NOT NULL DEFAULT '-infinity';
