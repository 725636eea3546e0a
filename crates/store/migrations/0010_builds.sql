-- Builds of images from code. `body` is the whole build; the columns beside it are what is looked for.
CREATE SEQUENCE build_number;
CREATE TABLE build (
    number     bigint PRIMARY KEY,
    repository text NOT NULL,
    state      text NOT NULL,
    digest     text,
    body       jsonb NOT NULL
);
CREATE INDEX build_digest ON build (digest) WHERE digest IS NOT NULL;
-- The lines that steps wrote. `place` is their order as they came.
CREATE TABLE build_line (
    place  bigint GENERATED ALWAYS AS IDENTITY,
    build  bigint NOT NULL REFERENCES build ON DELETE CASCADE,
    step   int NOT NULL,
    number bigint NOT NULL,
    at     bigint NOT NULL,
    source text NOT NULL,
    line   text NOT NULL,
    PRIMARY KEY (build, step, number)
);
CREATE INDEX build_line_place ON build_line (build, place);
-- Layers that steps made, by the key of all that went into them.
CREATE TABLE build_layer (
    key        text PRIMARY KEY,
    repository text NOT NULL,
    digest     text NOT NULL,
    size       bigint NOT NULL,
    used       timestamptz NOT NULL DEFAULT now()
);
-- The time that each file of a repository's code was first seen with its present content, for compilers that go by time.
CREATE TABLE build_times (
    repository text PRIMARY KEY,
    files      jsonb NOT NULL
);
