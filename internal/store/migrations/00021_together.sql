-- +goose Up
-- The steps that were shown when a draft was rehearsed: a push that would take others stops before it touches anything.
ALTER TABLE rehearsal ADD COLUMN plan jsonb NOT NULL DEFAULT '[]';

-- A push can wait for somebody at a console, be told to stop, and say how far it is.
ALTER TABLE push ADD COLUMN stopped_by bigint REFERENCES technician (id);
ALTER TABLE push ADD COLUMN ready_at timestamptz; -- when what is done by hand was done
ALTER TABLE push ADD COLUMN lines integer NOT NULL DEFAULT 0; -- of the journal that are expected
ALTER TABLE push ADD COLUMN returns_at timestamptz; -- when the devices undo the change unless they are told to keep it
ALTER TABLE push DROP CONSTRAINT push_state_check;
ALTER TABLE push ADD CONSTRAINT push_state_check
    CHECK (state IN ('queued', 'byhand', 'running', 'confirming', 'landing', 'returning', 'landed', 'failed'));
ALTER TABLE push_device ADD COLUMN startup json; -- its startup configuration when the push came to it
ALTER TABLE push_device ADD COLUMN by_hand boolean NOT NULL DEFAULT false;
ALTER TABLE push_device DROP CONSTRAINT push_device_state_check;
ALTER TABLE push_device ADD CONSTRAINT push_device_state_check
    CHECK (state IN ('begun', 'confirmed', 'returned', 'unknown', 'byhand'));

-- What somebody does at the console of a device that Lithos does not reach, and what they saw there.
CREATE TABLE push_hand (
    push_id   bigint NOT NULL REFERENCES push (id),
    seq       integer NOT NULL,
    device_id text NOT NULL,
    name      text NOT NULL, -- of the device
    part      text NOT NULL CHECK (part IN ('do', 'ask', 'back')),
    says      text NOT NULL,
    why       text NOT NULL DEFAULT '',
    step      jsonb,         -- of what is done
    expect    text NOT NULL DEFAULT '', -- what should be seen
    answer    text NOT NULL DEFAULT '',
    done_by   bigint REFERENCES technician (id),
    done_at   timestamptz,
    PRIMARY KEY (push_id, seq)
);

-- An order over several sites: the drafts of the others name the first.
ALTER TABLE work_order ADD COLUMN lead bigint REFERENCES work_order (id);
CREATE INDEX work_order_lead ON work_order (lead) WHERE lead IS NOT NULL;

-- Such orders are pushed in waves, one after another, in the name of who started them. Where they are pushed together,
-- none is confirmed before every device of all of them is ready.
CREATE TABLE wave (
    lead       bigint PRIMARY KEY REFERENCES work_order (id),
    number     integer NOT NULL DEFAULT 0, -- that is under way, from 1
    sizes      integer[] NOT NULL, -- how many sites each takes; the last one is repeated
    together   boolean NOT NULL DEFAULT false,
    state      text NOT NULL CHECK (state IN ('running', 'landed', 'stopped')),
    problem    text NOT NULL DEFAULT '',
    started_by bigint NOT NULL REFERENCES technician (id),
    started_at timestamptz NOT NULL DEFAULT now(),
    ended_at   timestamptz
);
CREATE TABLE wave_order (
    order_id bigint PRIMARY KEY REFERENCES work_order (id),
    lead     bigint NOT NULL REFERENCES wave (lead),
    number   integer NOT NULL, -- of the wave it is in
    push_id  bigint REFERENCES push (id)
);
ALTER TABLE push ADD COLUMN together bigint REFERENCES work_order (id); -- the lead of those it is confirmed with

-- +goose Down
ALTER TABLE push DROP COLUMN together;
DROP TABLE wave_order, wave;
DROP INDEX work_order_lead;
ALTER TABLE work_order DROP COLUMN lead;
DROP TABLE push_hand;
UPDATE push_device SET state = 'unknown' WHERE state = 'byhand';
ALTER TABLE push_device DROP CONSTRAINT push_device_state_check;
ALTER TABLE push_device ADD CONSTRAINT push_device_state_check
    CHECK (state IN ('begun', 'confirmed', 'returned', 'unknown'));
ALTER TABLE push_device DROP COLUMN by_hand;
ALTER TABLE push_device DROP COLUMN startup;
UPDATE push SET state = 'queued' WHERE state = 'byhand';
ALTER TABLE push DROP CONSTRAINT push_state_check;
ALTER TABLE push ADD CONSTRAINT push_state_check
    CHECK (state IN ('queued', 'running', 'confirming', 'landing', 'returning', 'landed', 'failed'));
ALTER TABLE push DROP COLUMN returns_at;
ALTER TABLE push DROP COLUMN lines;
ALTER TABLE push DROP COLUMN ready_at;
ALTER TABLE push DROP COLUMN stopped_by;
ALTER TABLE rehearsal DROP COLUMN plan;
