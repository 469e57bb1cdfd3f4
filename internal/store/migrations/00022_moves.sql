-- +goose Up
-- A move of networks: what was asked for, the site as it was, and what was computed from both. Its phases are work
-- orders; a phase may have more of them at other sites of the customer, which point at what moves.
CREATE TABLE move (
    id            bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    site_id       text NOT NULL REFERENCES site (id),
    title         text NOT NULL,
    ticket        text NOT NULL DEFAULT '',
    request       jsonb NOT NULL,
    base_revision integer NOT NULL, -- the record of the old numbers
    facts         jsonb NOT NULL,   -- what the rules need of it (check.Moving)
    state         text NOT NULL CHECK (state IN ('open', 'done', 'back', 'dropped')) DEFAULT 'open',
    opened_by     bigint NOT NULL REFERENCES technician (id),
    opened_at     timestamptz NOT NULL DEFAULT now()
);
CREATE INDEX move_open ON move (site_id) WHERE state = 'open';
CREATE TABLE move_phase (
    move_id    bigint NOT NULL REFERENCES move (id),
    seq        integer NOT NULL, -- from 1
    kind       text NOT NULL CHECK (kind IN ('shorten', 'beside', 'swap', 'follow', 'elsewhere', 'back')),
    title      text NOT NULL,
    says       text NOT NULL,
    edits      jsonb NOT NULL,
    proof      jsonb NOT NULL,
    not_before timestamptz NOT NULL,
    not_after  timestamptz NOT NULL,
    site_id    text NOT NULL REFERENCES site (id),
    order_id   bigint NOT NULL UNIQUE REFERENCES work_order (id),
    filled     boolean NOT NULL DEFAULT false, -- its edits are in the draft of its order
    PRIMARY KEY (move_id, seq)
);
-- A device that holds its address itself, and who has been there.
CREATE TABLE move_visit (
    move_id bigint NOT NULL REFERENCES move (id),
    seq     integer NOT NULL,
    visit   jsonb NOT NULL,
    done_by bigint REFERENCES technician (id),
    done_at timestamptz,
    PRIMARY KEY (move_id, seq)
);

-- +goose Down
DROP TABLE move_visit, move_phase, move;
