-- Which blobs a repository has; their content is in the content store.
CREATE TABLE registry_blob (
    repository text NOT NULL,
    digest     text NOT NULL,
    added      timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (repository, digest)
);
-- Manifests of images and of what is kept like them, and the blobs and manifests that each one needs.
CREATE TABLE registry_manifest (
    repository    text NOT NULL,
    digest        text NOT NULL,
    media_type    text NOT NULL,
    size          bigint NOT NULL,
    needs         text[] NOT NULL,
    subject       text,
    artifact_type text,
    annotations   jsonb NOT NULL,
    pushed        timestamptz NOT NULL DEFAULT now(),
    by            text NOT NULL,
    PRIMARY KEY (repository, digest)
);
CREATE INDEX referrers ON registry_manifest (repository, subject) WHERE subject IS NOT NULL;
-- `image` is the manifest that the platform runs under this name: that of its own processor, where the tag is of a list.
CREATE TABLE registry_tag (
    repository text NOT NULL,
    tag        text NOT NULL,
    digest     text NOT NULL,
    image      text,
    moved      timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (repository, tag),
    FOREIGN KEY (repository, digest) REFERENCES registry_manifest ON DELETE CASCADE
);
-- A token of the registry is good for a short time, for these scopes, and ends with the token that it was given for.
ALTER TABLE token ADD COLUMN scopes text, ADD COLUMN parent text;
ALTER TABLE token DROP CONSTRAINT token_kind_check;
ALTER TABLE token ADD CONSTRAINT token_kind_check
    CHECK (kind IN ('client', 'part', 'session', 'sign-in', 'registry'));
