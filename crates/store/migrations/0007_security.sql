-- A route's host belongs to one route with the same path and conditions. The digest keeps long conditions out of the
-- index, and checking at the end of a transaction lets two routes change hosts in one.
DROP INDEX one_route_a_host;
ALTER TABLE object ADD CONSTRAINT one_route_a_way EXCLUDE USING btree (
    (md5(coalesce(body->>'host', '')) || md5(coalesce(body->>'port', '')) || md5(coalesce(body->>'path', ''))
        || md5(coalesce(body->>'exact', '')) || md5(coalesce(body->>'methods', ''))
        || md5(coalesce(body->>'headers', ''))) WITH =
) WHERE (kind = 'route') DEFERRABLE INITIALLY DEFERRED;

-- What a credential is called, for which part it is, and when it was last used. `id` is public; the hash stays secret.
ALTER TABLE token
    ADD COLUMN id        text NOT NULL DEFAULT substr(md5(random()::text), 1, 8),
    ADD COLUMN name      text NOT NULL DEFAULT '',
    ADD COLUMN part      text,
    ADD COLUMN last_used timestamptz;
CREATE UNIQUE INDEX token_by_id ON token (id);
-- One token for all parts, and sign-in keys and sessions that carry no name, are not taken over.
DELETE FROM token WHERE kind = 'part' OR kind = 'client';
