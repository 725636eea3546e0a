-- Values of secrets, sealed. They are kept apart from the objects, so that neither the journal nor a snapshot holds them.
CREATE TABLE sealed (
    name  text        PRIMARY KEY,
    place text        NOT NULL,
    body  bytea       NOT NULL,
    made  timestamptz NOT NULL DEFAULT clock_timestamp()
);
