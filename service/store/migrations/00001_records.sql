-- +goose Up
-- Every table is keyed by team first, so that it can be partitioned or spread by team later. Growing tables are
-- partitioned by time; what must be unique across time has a table of its own.

CREATE TABLE teams (
    id uuid PRIMARY KEY,
    name text NOT NULL,
    created timestamptz NOT NULL DEFAULT now()
);

CREATE TABLE people (
    team uuid NOT NULL REFERENCES teams,
    id uuid NOT NULL,
    name text NOT NULL,
    role text NOT NULL CHECK (role IN ('reader', 'developer', 'owner')),
    created timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (team, id)
);

CREATE TABLE tokens (
    team uuid NOT NULL REFERENCES teams,
    id uuid NOT NULL,
    person uuid,
    name text NOT NULL,
    kind text NOT NULL CHECK (kind IN ('person', 'machine')),
    role text NOT NULL CHECK (role IN ('reader', 'developer', 'owner')),
    digest bytea NOT NULL UNIQUE,
    created timestamptz NOT NULL DEFAULT now(),
    expires timestamptz,
    revoked timestamptz,
    used timestamptz,
    PRIMARY KEY (team, id),
    FOREIGN KEY (team, person) REFERENCES people
);

CREATE TABLE apps (
    team uuid NOT NULL REFERENCES teams,
    id uuid NOT NULL,
    name text NOT NULL,
    title text NOT NULL,
    created timestamptz NOT NULL DEFAULT now(),
    version int NOT NULL DEFAULT 1,
    PRIMARY KEY (team, id),
    UNIQUE (team, name)
);

CREATE TABLE environments (
    team uuid NOT NULL,
    id uuid NOT NULL,
    app uuid NOT NULL,
    name text NOT NULL,
    PRIMARY KEY (team, id),
    UNIQUE (team, app, name),
    FOREIGN KEY (team, app) REFERENCES apps ON DELETE CASCADE
);

CREATE TABLE identities (
    team uuid NOT NULL,
    id uuid NOT NULL,
    app uuid NOT NULL,
    platform text NOT NULL CHECK (platform IN ('android', 'ios', 'web')),
    identifier text NOT NULL,
    display_name text NOT NULL DEFAULT '',
    store_id text NOT NULL DEFAULT '',
    published timestamptz,
    created timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (team, id),
    UNIQUE (team, platform, identifier),
    FOREIGN KEY (team, app) REFERENCES apps ON DELETE CASCADE
);

-- Which identity and environment a variant is; the truth stands in the tree's ligare.yaml, this is the last report of it.
CREATE TABLE variants (
    team uuid NOT NULL,
    app uuid NOT NULL,
    site text NOT NULL,
    variant text NOT NULL,
    identity uuid,
    environment uuid,
    reported timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (team, app, site, variant),
    FOREIGN KEY (team, app) REFERENCES apps ON DELETE CASCADE
);

CREATE TABLE signers (
    team uuid NOT NULL REFERENCES teams,
    id uuid NOT NULL,
    name text NOT NULL,
    role text NOT NULL CHECK (role IN ('debug', 'upload', 'release', 'store')),
    owner text NOT NULL DEFAULT '',
    machine text NOT NULL DEFAULT '',
    subject text NOT NULL,
    not_after timestamptz NOT NULL,
    certificate bytea NOT NULL,
    sha256 bytea NOT NULL,
    created timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (team, id),
    UNIQUE (team, sha256)
);

CREATE TABLE identity_signers (
    team uuid NOT NULL,
    identity uuid NOT NULL,
    signer uuid NOT NULL,
    PRIMARY KEY (team, identity, signer),
    FOREIGN KEY (team, identity) REFERENCES identities ON DELETE CASCADE,
    FOREIGN KEY (team, signer) REFERENCES signers ON DELETE CASCADE
);

CREATE TABLE sheets (
    team uuid NOT NULL REFERENCES teams,
    service text NOT NULL,
    digest text NOT NULL,
    source text NOT NULL,
    created timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (team, service, digest)
);

CREATE TABLE accounts (
    team uuid NOT NULL REFERENCES teams,
    id uuid NOT NULL,
    service text NOT NULL,
    address text NOT NULL,
    remote text NOT NULL DEFAULT '',
    credential bytea NOT NULL,
    created timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (team, id),
    UNIQUE (team, service)
);

CREATE TABLE registrations (
    team uuid NOT NULL,
    id uuid NOT NULL,
    app uuid NOT NULL,
    service text NOT NULL,
    environment text NOT NULL DEFAULT '', -- '' where the sheet's scope is wider than an environment
    identity uuid,                        -- set where the sheet's scope is one identity
    account uuid,
    sheet text NOT NULL,
    state text NOT NULL CHECK (state IN ('started', 'registered', 'unknown', 'failed', 'removed')),
    remote text NOT NULL DEFAULT '',
    revision int NOT NULL DEFAULT 0,
    features text[] NOT NULL DEFAULT '{}',
    answers jsonb NOT NULL DEFAULT '{}',
    problem text NOT NULL DEFAULT '',
    remedy text NOT NULL DEFAULT '',
    seen_after text NOT NULL DEFAULT '',
    busy timestamptz, -- somebody is registering until then at the latest
    created timestamptz NOT NULL DEFAULT now(),
    version int NOT NULL DEFAULT 1,
    PRIMARY KEY (team, id),
    UNIQUE NULLS NOT DISTINCT (team, app, service, environment, identity),
    FOREIGN KEY (team, app) REFERENCES apps,
    FOREIGN KEY (team, account) REFERENCES accounts
);

CREATE TABLE registration_identities (
    team uuid NOT NULL,
    registration uuid NOT NULL,
    identity uuid NOT NULL,
    answers jsonb NOT NULL DEFAULT '{}',
    digests text[] NOT NULL DEFAULT '{}',
    PRIMARY KEY (team, registration, identity),
    FOREIGN KEY (team, registration) REFERENCES registrations ON DELETE CASCADE,
    FOREIGN KEY (team, identity) REFERENCES identities
);

-- Registering is a resumable sequence: a step is recorded before it is tried, with the key that makes it repeatable.
CREATE TABLE registration_steps (
    team uuid NOT NULL,
    registration uuid NOT NULL,
    step text NOT NULL,
    key uuid NOT NULL,
    request jsonb NOT NULL,
    state text NOT NULL CHECK (state IN ('tried', 'done', 'refused', 'unknown')),
    detail text NOT NULL DEFAULT '',
    tried timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (team, registration, step),
    FOREIGN KEY (team, registration) REFERENCES registrations ON DELETE CASCADE
);

CREATE TABLE issued_values (
    team uuid NOT NULL,
    registration uuid NOT NULL,
    identity uuid, -- null for a value of the whole registration
    name text NOT NULL,
    exposure text NOT NULL CHECK (exposure IN ('client', 'server')),
    sealed bytea NOT NULL,
    issued timestamptz NOT NULL DEFAULT now(),
    revoked timestamptz,
    ends timestamptz,
    UNIQUE NULLS NOT DISTINCT (team, registration, identity, name),
    FOREIGN KEY (team, registration) REFERENCES registrations ON DELETE CASCADE
);

CREATE TABLE config_files (
    team uuid NOT NULL,
    registration uuid NOT NULL,
    identity uuid NOT NULL,
    file text NOT NULL,
    name text NOT NULL,
    revision int NOT NULL,
    sealed bytea NOT NULL,
    fetched timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (team, registration, identity, file),
    FOREIGN KEY (team, registration) REFERENCES registrations ON DELETE CASCADE
);

-- What trees reported as placed; several registrations may own one placement.
CREATE TABLE placements (
    team uuid NOT NULL,
    app uuid NOT NULL,
    subject text NOT NULL,
    variant text NOT NULL,
    state text NOT NULL,
    place text NOT NULL DEFAULT '',
    reported timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (team, app, subject, variant),
    FOREIGN KEY (team, app) REFERENCES apps ON DELETE CASCADE
);

CREATE TABLE placement_owners (
    team uuid NOT NULL,
    app uuid NOT NULL,
    subject text NOT NULL,
    variant text NOT NULL,
    registration uuid NOT NULL,
    PRIMARY KEY (team, app, subject, variant, registration),
    FOREIGN KEY (team, app, subject, variant) REFERENCES placements ON DELETE CASCADE,
    FOREIGN KEY (team, registration) REFERENCES registrations ON DELETE CASCADE
);

CREATE TABLE duties (
    team uuid NOT NULL,
    registration uuid NOT NULL,
    duty text NOT NULL,
    done timestamptz,
    done_by text NOT NULL DEFAULT '',
    PRIMARY KEY (team, registration, duty),
    FOREIGN KEY (team, registration) REFERENCES registrations ON DELETE CASCADE
);

CREATE TABLE catalogue_items (
    team uuid NOT NULL,
    app uuid NOT NULL,
    id uuid NOT NULL,
    product text NOT NULL,
    kind text NOT NULL CHECK (kind IN ('consumable', 'non-consumable', 'subscription')),
    subscription_group text NOT NULL DEFAULT '',
    PRIMARY KEY (team, id),
    UNIQUE (team, app, product),
    FOREIGN KEY (team, app) REFERENCES apps ON DELETE CASCADE
);

CREATE TABLE waivers (
    team uuid NOT NULL,
    app uuid NOT NULL,
    fingerprint text NOT NULL,
    reason text NOT NULL,
    who text NOT NULL,
    ends timestamptz NOT NULL,
    PRIMARY KEY (team, app, fingerprint),
    FOREIGN KEY (team, app) REFERENCES apps ON DELETE CASCADE
);

-- The last report of an app's tree: what the line-up and the overview show.
CREATE TABLE reports (
    team uuid NOT NULL,
    app uuid NOT NULL,
    at timestamptz NOT NULL,
    body bytea NOT NULL, -- sealed: the line-up holds issued values
    PRIMARY KEY (team, app),
    FOREIGN KEY (team, app) REFERENCES apps ON DELETE CASCADE
);

CREATE TABLE findings (
    team uuid NOT NULL,
    app uuid NOT NULL,
    at timestamptz NOT NULL,
    fingerprint text NOT NULL,
    rule text NOT NULL,
    severity text NOT NULL,
    body jsonb NOT NULL,
    PRIMARY KEY (team, app, at, fingerprint)
) PARTITION BY RANGE (at);
CREATE TABLE findings_rest PARTITION OF findings DEFAULT;

CREATE TABLE sightings (
    team uuid NOT NULL,
    registration uuid NOT NULL,
    at timestamptz NOT NULL,
    id text NOT NULL,
    platform text NOT NULL,
    identifier text NOT NULL,
    kind text NOT NULL,
    facts bytea NOT NULL, -- sealed: what an app carried holds issued values
    PRIMARY KEY (team, registration, at, id)
) PARTITION BY RANGE (at);
CREATE TABLE sightings_rest PARTITION OF sightings DEFAULT;

CREATE TABLE sightings_seen ( -- deduplication across partitions
    team uuid NOT NULL,
    registration uuid NOT NULL,
    id text NOT NULL,
    PRIMARY KEY (team, registration, id)
);

CREATE TABLE audit (
    team uuid NOT NULL,
    seq bigint NOT NULL,
    at timestamptz NOT NULL,
    actor text NOT NULL,
    action text NOT NULL,
    target text NOT NULL,
    detail jsonb NOT NULL DEFAULT '{}',
    before bytea NOT NULL, -- hash of the entry before
    hash bytea NOT NULL,
    PRIMARY KEY (team, at, seq)
) PARTITION BY RANGE (at);
CREATE TABLE audit_rest PARTITION OF audit DEFAULT;

CREATE TABLE audit_heads ( -- end of each team's chain; one row to lock
    team uuid PRIMARY KEY REFERENCES teams,
    seq bigint NOT NULL,
    hash bytea NOT NULL
);

CREATE TABLE audit_checkpoints (
    team uuid NOT NULL REFERENCES teams,
    seq bigint NOT NULL,
    hash bytea NOT NULL,
    at timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (team, seq)
);

CREATE TABLE idempotency_keys (
    team uuid NOT NULL,
    token uuid NOT NULL,
    route text NOT NULL,
    key text NOT NULL,
    body bytea NOT NULL,      -- digest of the request
    status int NOT NULL,
    answer bytea NOT NULL,    -- sealed: it may hold issued values
    at timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (team, token, route, key)
);

CREATE TABLE jobs (
    id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    team uuid NOT NULL,
    kind text NOT NULL,
    subject text NOT NULL,
    due timestamptz NOT NULL,
    tries int NOT NULL DEFAULT 0,
    problem text NOT NULL DEFAULT '',
    UNIQUE (team, kind, subject)
);
CREATE INDEX jobs_due ON jobs (due);

CREATE TABLE outbox (
    id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    team uuid NOT NULL,
    topic text NOT NULL,
    body jsonb NOT NULL,
    at timestamptz NOT NULL DEFAULT now()
);
CREATE INDEX outbox_team ON outbox (team, id);

-- +goose Down
DROP TABLE outbox, jobs, idempotency_keys, audit_checkpoints, audit_heads, audit, sightings_seen, sightings, findings, reports,
    waivers, catalogue_items, duties, placement_owners, placements, config_files, issued_values, registration_steps,
    registration_identities, registrations, accounts, sheets, identity_signers, signers, variants, identities, environments,
    apps, tokens, people, teams;
