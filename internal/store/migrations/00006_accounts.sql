-- +goose Up
ALTER TABLE technician ADD COLUMN off_at timestamptz; -- when the account was switched off

-- A session is its technician's and ends with the account. Sessions from before are ended.
DROP TABLE sessions;
CREATE TABLE session (
    token         text PRIMARY KEY, -- hashed
    technician_id bigint NOT NULL REFERENCES technician (id) ON DELETE CASCADE,
    started_at    timestamptz NOT NULL DEFAULT now(),
    expires_at    timestamptz NOT NULL,
    source        text NOT NULL,
    agent         text NOT NULL
);
CREATE INDEX session_technician ON session (technician_id);
CREATE INDEX session_expires ON session (expires_at);

-- Browsers somebody has signed in from: attempts elsewhere do not keep them out.
CREATE TABLE known_browser (
    token         text NOT NULL, -- hashed
    technician_id bigint NOT NULL REFERENCES technician (id) ON DELETE CASCADE,
    last_at       timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (token, technician_id)
);

ALTER TABLE sign_in_attempt ADD COLUMN id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY;
ALTER TABLE sign_in_attempt ADD COLUMN browser text NOT NULL DEFAULT ''; -- of a known browser

-- What was done by whom, written in the transaction that did it and never changed.
CREATE TABLE audit (
    id            bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    at            timestamptz NOT NULL DEFAULT now(),
    technician_id bigint,        -- none for the command line and for Lithos itself
    who           text NOT NULL, -- as they were called then
    source        text NOT NULL, -- the address a request came from
    act           text NOT NULL,
    about         text NOT NULL, -- the site, order, device or account
    says          text NOT NULL
);
CREATE INDEX audit_at ON audit (at);
-- +goose StatementBegin
CREATE FUNCTION audit_keeps() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    RAISE EXCEPTION 'the audit table is append only';
END
$$;
-- +goose StatementEnd
CREATE TRIGGER audit_keeps BEFORE UPDATE OR DELETE OR TRUNCATE ON audit EXECUTE FUNCTION audit_keeps();

-- +goose Down
DROP TABLE audit;
DROP FUNCTION audit_keeps;
ALTER TABLE sign_in_attempt DROP COLUMN browser;
ALTER TABLE sign_in_attempt DROP COLUMN id;
DROP TABLE known_browser, session;
CREATE TABLE sessions (
    token  text PRIMARY KEY,
    data   bytea NOT NULL,
    expiry timestamptz NOT NULL
);
CREATE INDEX sessions_expiry ON sessions (expiry);
ALTER TABLE technician DROP COLUMN off_at;
