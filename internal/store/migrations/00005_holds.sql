-- +goose Up
-- The process that carries out a push holds its row until a time it keeps moving
-- on; one that is killed stops, and another takes the push up.
ALTER TABLE push ADD COLUMN held_by text NOT NULL DEFAULT '';
ALTER TABLE push ADD COLUMN held_until timestamptz NOT NULL DEFAULT 'epoch';
ALTER TABLE push DROP CONSTRAINT push_state_check;
ALTER TABLE push ADD CONSTRAINT push_state_check
    CHECK (state IN ('queued', 'running', 'confirming', 'landing', 'returning', 'landed', 'failed'));
DROP INDEX push_one_a_site;
CREATE UNIQUE INDEX push_one_a_site ON push (site_id) WHERE state NOT IN ('landed', 'failed');

ALTER TABLE push_journal DROP CONSTRAINT push_journal_state_check;
ALTER TABLE push_journal ADD CONSTRAINT push_journal_state_check CHECK (state IN ('running', 'done', 'failed', 'skipped', 'unknown'));

-- What a push has to do with each device, and what the device last said became of it.
CREATE TABLE push_device (
    push_id   bigint NOT NULL REFERENCES push (id),
    device_id text NOT NULL,
    name      text NOT NULL,
    seq       integer NOT NULL,
    state     text NOT NULL CHECK (state IN ('begun', 'confirmed', 'returned', 'unknown')),
    before    json NOT NULL, -- the configuration it held when the push came to it
    PRIMARY KEY (push_id, device_id)
);

-- What a push landed without having proved it, until somebody has seen to it.
CREATE TABLE push_unverified (
    push_id     bigint NOT NULL REFERENCES push (id),
    seq         integer NOT NULL,
    name        text NOT NULL, -- of the device or network
    why         text NOT NULL,
    verified_by bigint REFERENCES technician (id),
    verified_at timestamptz,
    PRIMARY KEY (push_id, seq)
);

-- What this database is, so that a restored copy is told from the one in use.
CREATE TABLE installation (
    one          boolean PRIMARY KEY DEFAULT true CHECK (one),
    identity     text NOT NULL,
    key          text NOT NULL DEFAULT '', -- the public half of the key that seals secrets
    held_since   timestamptz,
    held_because text NOT NULL DEFAULT ''
);

-- Edits that no longer applied when their draft moved to a newer revision, until
-- somebody decides.
CREATE TABLE work_order_lost (
    order_id bigint NOT NULL REFERENCES work_order (id),
    seq      integer NOT NULL,
    edit     json NOT NULL,
    says     text NOT NULL, -- the edit in words
    why      text NOT NULL, -- what keeps it from applying
    made_by  bigint NOT NULL REFERENCES technician (id),
    PRIMARY KEY (order_id, seq)
);

-- The draft's version that a step made: what was changed since a version somebody saw.
ALTER TABLE work_order_step ADD COLUMN version integer NOT NULL DEFAULT 0;

-- When a device was last asked, whether it answered or not.
ALTER TABLE device_access ADD COLUMN tried_at timestamptz;

-- +goose Down
ALTER TABLE device_access DROP COLUMN tried_at;
ALTER TABLE work_order_step DROP COLUMN version;
DROP TABLE work_order_lost, installation, push_unverified, push_device;
UPDATE push_journal SET state = 'failed' WHERE state IN ('skipped', 'unknown');
ALTER TABLE push_journal DROP CONSTRAINT push_journal_state_check;
ALTER TABLE push_journal ADD CONSTRAINT push_journal_state_check CHECK (state IN ('running', 'done', 'failed'));
DROP INDEX push_one_a_site;
UPDATE push SET state = 'running' WHERE state IN ('confirming', 'landing', 'returning');
ALTER TABLE push DROP CONSTRAINT push_state_check;
ALTER TABLE push ADD CONSTRAINT push_state_check CHECK (state IN ('queued', 'running', 'landed', 'failed'));
CREATE UNIQUE INDEX push_one_a_site ON push (site_id) WHERE state IN ('queued', 'running');
ALTER TABLE push DROP COLUMN held_until;
ALTER TABLE push DROP COLUMN held_by;
