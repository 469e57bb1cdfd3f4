-- +goose Up
-- What devices held when they were read: a row for each form, as long as it lasted.
CREATE TABLE device_config (
    id        bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    site_id   text NOT NULL REFERENCES site (id) ON DELETE CASCADE,
    device_id text NOT NULL,
    config    jsonb NOT NULL,
    first_at  timestamptz NOT NULL DEFAULT now(),
    last_at   timestamptz NOT NULL DEFAULT now()
);
CREATE INDEX device_config_of ON device_config (site_id, device_id, id DESC);
-- How many things a device held otherwise than the site's revision has it when it was read last, what Lithos did not
-- put there apart, and since when.
ALTER TABLE device_access ADD COLUMN drifted integer NOT NULL DEFAULT 0;
ALTER TABLE device_access ADD COLUMN others integer NOT NULL DEFAULT 0;
ALTER TABLE device_access ADD COLUMN drifted_at timestamptz;
ALTER TABLE device_access ADD COLUMN problem_at timestamptz;
-- What of a device somebody has said to put back: a step of a draft.
ALTER TABLE work_order_step ADD COLUMN put_back jsonb NOT NULL DEFAULT '[]';
-- What happened at a site of itself.
CREATE TABLE site_event (
    id      bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    site_id text NOT NULL REFERENCES site (id) ON DELETE CASCADE,
    at      timestamptz NOT NULL DEFAULT now(),
    kind    text NOT NULL,
    about   text NOT NULL DEFAULT '', -- kind:id of a part
    says    text NOT NULL
);
CREATE INDEX site_event_of ON site_event (site_id, id DESC);
-- DHCP servers that devices heard and that none of the site's devices is.
CREATE TABLE stray_server (
    site_id   text NOT NULL REFERENCES site (id) ON DELETE CASCADE,
    device_id text NOT NULL, -- the device that heard it
    interface text NOT NULL,
    address   inet NOT NULL,
    mac       macaddr NOT NULL,
    first_at  timestamptz NOT NULL DEFAULT now(),
    last_at   timestamptz NOT NULL,
    PRIMARY KEY (site_id, address)
);
-- Until when a technician has looked at what happened at a site.
CREATE TABLE site_look (
    technician_id bigint NOT NULL REFERENCES technician (id) ON DELETE CASCADE,
    site_id       text NOT NULL REFERENCES site (id) ON DELETE CASCADE,
    at            timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (technician_id, site_id)
);

-- +goose Down
DROP TABLE stray_server, site_look, site_event, device_config;
ALTER TABLE work_order_step DROP COLUMN put_back;
ALTER TABLE device_access DROP COLUMN problem_at;
ALTER TABLE device_access DROP COLUMN drifted_at;
ALTER TABLE device_access DROP COLUMN others;
ALTER TABLE device_access DROP COLUMN drifted;
