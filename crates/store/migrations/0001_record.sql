-- Every object of the record, whole, as JSON. `changed` is the number of its last change.
CREATE TABLE object (
    kind    text   NOT NULL,
    key     text   NOT NULL,
    body    jsonb  NOT NULL,
    changed bigint NOT NULL,
    PRIMARY KEY (kind, key)
);

-- A host belongs to one route, an address on a node to one replica.
CREATE UNIQUE INDEX one_route_a_host ON object ((body->>'host')) WHERE kind = 'route';
CREATE UNIQUE INDEX one_replica_an_address ON object ((body->>'node'), (body->>'address'))
    WHERE kind = 'replica' AND body->>'address' IS NOT NULL;

-- Every change in its order: the change feed and the trail.
CREATE TABLE journal (
    number bigint      PRIMARY KEY,
    kind   text        NOT NULL,
    key    text        NOT NULL,
    body   jsonb,
    cause  jsonb       NOT NULL,
    at     timestamptz NOT NULL DEFAULT clock_timestamp()
);

-- One row: the number of the last change, and which control decides.
CREATE TABLE ledger (
    one    boolean PRIMARY KEY DEFAULT true CHECK (one),
    number bigint  NOT NULL DEFAULT 0,
    epoch  bigint  NOT NULL DEFAULT 0,
    holder text    NOT NULL DEFAULT ''
);
INSERT INTO ledger DEFAULT VALUES;

-- Who may call. Only hashes are kept.
CREATE TABLE token (
    hash    bytea       PRIMARY KEY,
    member  text        NOT NULL,
    kind    text        NOT NULL CHECK (kind IN ('client', 'part', 'session', 'sign-in')),
    created timestamptz NOT NULL DEFAULT now(),
    expires timestamptz
);
