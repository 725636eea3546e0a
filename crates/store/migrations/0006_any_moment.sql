-- Any moment of the past: the last change of each object up to a number, and the number of a moment.
CREATE INDEX journal_of_an_object ON journal (kind, key, number DESC);
CREATE INDEX journal_by_time ON journal (at, number);
-- The trail is mostly read of what people did, which is little of all.
CREATE INDEX journal_of_people ON journal (number) WHERE cause->>'by' <> 'platform';

-- From when on the journal has every change of what is declared, and every change; empty where nothing was forgotten.
-- Of what is older there are only people's acts.
ALTER TABLE ledger ADD COLUMN declared_since timestamptz, ADD COLUMN whole_since timestamptz;
-- A record that was thinned out before begins now: each object's last change is there again, as it is.
INSERT INTO journal (number, kind, key, body, cause, at)
    SELECT changed, kind, key, body, '{"by": "platform", "act": "kept", "at": "1970-01-01T00:00:00Z"}', (SELECT min(at) FROM journal)
    FROM object WHERE NOT EXISTS (SELECT FROM journal WHERE number = object.changed);
UPDATE ledger SET declared_since = now(), whole_since = now() WHERE kept_from > 0;
