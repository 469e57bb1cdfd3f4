-- +goose Up
CREATE EXTENSION IF NOT EXISTS pg_trgm;

CREATE TABLE technician (
    id            bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    name          text NOT NULL UNIQUE,
    full_name     text NOT NULL,
    password_hash text NOT NULL,
    created_at    timestamptz NOT NULL DEFAULT now()
);

-- The layout alexedwards/scs expects.
CREATE TABLE sessions (
    token  text PRIMARY KEY,
    data   bytea NOT NULL,
    expiry timestamptz NOT NULL
);
CREATE INDEX sessions_expiry ON sessions (expiry);

CREATE TABLE sign_in_attempt (
    name   text NOT NULL,
    source text NOT NULL,
    at     timestamptz NOT NULL DEFAULT now()
);
CREATE INDEX sign_in_attempt_name ON sign_in_attempt (name, at);
CREATE INDEX sign_in_attempt_source ON sign_in_attempt (source, at);

CREATE TABLE site (
    id       text PRIMARY KEY,
    code     text NOT NULL UNIQUE,
    name     text NOT NULL,
    customer text NOT NULL,
    head     integer NOT NULL
);

CREATE TABLE work_order (
    id            bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    site_id       text NOT NULL REFERENCES site (id),
    title         text NOT NULL,
    ticket        text NOT NULL,
    base_revision integer NOT NULL,
    -- Counts every change to the draft; a change names the version it was made on.
    version       integer NOT NULL DEFAULT 0,
    state         text NOT NULL CHECK (state IN ('open', 'pushing', 'landed', 'dropped')),
    opened_by     bigint NOT NULL REFERENCES technician (id),
    opened_at     timestamptz NOT NULL DEFAULT now(),
    closed_by     bigint REFERENCES technician (id),
    closed_at     timestamptz
);
CREATE INDEX work_order_site ON work_order (site_id, state);

CREATE TABLE site_revision (
    site_id    text NOT NULL REFERENCES site (id) DEFERRABLE INITIALLY DEFERRED,
    revision   integer NOT NULL CHECK (revision > 0),
    doc        jsonb NOT NULL,
    note       text NOT NULL,
    order_id   bigint REFERENCES work_order (id),
    made_by    bigint REFERENCES technician (id),
    made_at    timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (site_id, revision)
);
-- The head is always a revision that exists.
ALTER TABLE site ADD CONSTRAINT site_head FOREIGN KEY (id, head)
    REFERENCES site_revision (site_id, revision) DEFERRABLE INITIALLY DEFERRED;

-- What the head revisions hold, for questions over all sites.
CREATE TABLE site_prefix (
    site_id text NOT NULL REFERENCES site (id),
    part    text NOT NULL,
    name    text NOT NULL,
    vlan    integer NOT NULL,
    prefix  cidr NOT NULL
);
CREATE INDEX site_prefix_prefix ON site_prefix USING gist (prefix inet_ops);
CREATE INDEX site_prefix_site ON site_prefix (site_id);
CREATE INDEX site_prefix_vlan ON site_prefix (vlan);

CREATE TABLE site_address (
    site_id text NOT NULL REFERENCES site (id),
    part    text NOT NULL,
    network text NOT NULL,
    name    text NOT NULL,
    address inet NOT NULL,
    mac     macaddr
);
CREATE INDEX site_address_address ON site_address USING gist (address inet_ops);
CREATE INDEX site_address_mac ON site_address (mac);
CREATE INDEX site_address_site ON site_address (site_id);
CREATE INDEX site_address_name ON site_address USING gin (name gin_trgm_ops);
CREATE INDEX site_prefix_name ON site_prefix USING gin (name gin_trgm_ops);

CREATE TABLE work_order_step (
    order_id bigint NOT NULL REFERENCES work_order (id),
    seq      integer NOT NULL,
    says     text NOT NULL,
    edits    json NOT NULL,
    undone   boolean NOT NULL DEFAULT false,
    undone_by bigint REFERENCES technician (id),
    made_by  bigint NOT NULL REFERENCES technician (id),
    made_at  timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (order_id, seq)
);

CREATE TABLE rehearsal (
    order_id bigint PRIMARY KEY REFERENCES work_order (id),
    version  integer NOT NULL,
    report   json NOT NULL,
    made_by  bigint NOT NULL REFERENCES technician (id),
    made_at  timestamptz NOT NULL DEFAULT now()
);

CREATE TABLE push (
    id          bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    order_id    bigint NOT NULL REFERENCES work_order (id),
    site_id     text NOT NULL REFERENCES site (id),
    version     integer NOT NULL,
    state       text NOT NULL CHECK (state IN ('queued', 'running', 'landed', 'failed')),
    problem     text NOT NULL DEFAULT '',
    started_by  bigint NOT NULL REFERENCES technician (id),
    started_at  timestamptz NOT NULL DEFAULT now(),
    finished_at timestamptz
);
-- One push at a time touches a site.
CREATE UNIQUE INDEX push_one_a_site ON push (site_id) WHERE state IN ('queued', 'running');

CREATE TABLE push_journal (
    push_id bigint NOT NULL REFERENCES push (id),
    seq     integer NOT NULL,
    at      timestamptz NOT NULL DEFAULT now(),
    device  text NOT NULL,
    stage   text NOT NULL,
    says    text NOT NULL,
    state   text NOT NULL CHECK (state IN ('running', 'done', 'failed')),
    PRIMARY KEY (push_id, seq)
);

-- How to reach a device. The password is encrypted (age) and never leaves the server.
CREATE TABLE device_access (
    site_id     text NOT NULL REFERENCES site (id),
    device_id   text NOT NULL,
    url         text NOT NULL,
    account     text NOT NULL,
    secret      bytea NOT NULL,
    fingerprint bytea NOT NULL,
    read_at     timestamptz,
    problem     text NOT NULL DEFAULT '',
    PRIMARY KEY (site_id, device_id)
);

-- Observed, never edited.
CREATE TABLE sighting (
    site_id   text NOT NULL REFERENCES site (id),
    device_id text NOT NULL,
    source    text NOT NULL CHECK (source IN ('lease', 'neighbour')),
    address   inet NOT NULL,
    mac       macaddr NOT NULL,
    client_id bytea NOT NULL,
    name      text NOT NULL,
    pool      text NOT NULL,
    state     text NOT NULL,
    first     timestamptz NOT NULL,
    last      timestamptz NOT NULL,
    expires   timestamptz,
    PRIMARY KEY (site_id, device_id, source, address)
);

-- +goose Down
DROP TABLE sighting, device_access, push_journal, push, rehearsal, work_order_step, site_address, site_prefix;
ALTER TABLE site DROP CONSTRAINT site_head;
DROP TABLE site_revision, work_order, site, sign_in_attempt, sessions, technician;
