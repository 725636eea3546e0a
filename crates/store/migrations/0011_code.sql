-- Repositories of code that are pushed to. `body` is all of one but its objects; `bundle` is the digest of the file in the
-- image store that has those. `version` counts up: of two that write at once the second is refused.
CREATE TABLE code (
    environment text NOT NULL,
    name        text NOT NULL,
    version     bigint NOT NULL,
    bundle      text,
    body        jsonb NOT NULL,
    PRIMARY KEY (environment, name)
);
-- Keys that members push and clone with over ssh.
CREATE TABLE ssh_key (
    fingerprint text PRIMARY KEY,
    member      text NOT NULL,
    name        text NOT NULL,
    key         text NOT NULL,
    added       timestamptz NOT NULL DEFAULT now(),
    UNIQUE (member, name)
);
