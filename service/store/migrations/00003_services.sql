-- +goose Up
-- Sheets of a team's own stand beside those that ship; every version that was used is kept, so that a change can be shown.
ALTER TABLE sheets ADD COLUMN current boolean NOT NULL DEFAULT false, ADD COLUMN who text NOT NULL DEFAULT '';
CREATE UNIQUE INDEX sheets_current ON sheets (team, service) WHERE current;

-- What the service had when it was last asked, and what it was given. Answers that nobody may see again are sealed.
ALTER TABLE registrations
    ADD COLUMN redirects text[] NOT NULL DEFAULT '{}',
    ADD COLUMN received jsonb NOT NULL DEFAULT '{}',
    ADD COLUMN fields jsonb NOT NULL DEFAULT '{}',
    ADD COLUMN berths jsonb NOT NULL DEFAULT '{}', -- name -> environment, '' for none
    ADD COLUMN looked timestamptz,
    ADD COLUMN changed timestamptz NOT NULL DEFAULT now(),
    ADD COLUMN access bytea,
    DROP COLUMN busy;
ALTER TABLE registration_identities
    ADD COLUMN received jsonb NOT NULL DEFAULT '{}',
    ADD COLUMN sources jsonb NOT NULL DEFAULT '{}'; -- answer -> where it was found
ALTER TABLE registration_steps DROP COLUMN request, ADD COLUMN request bytea, ADD COLUMN attempt bytea;

CREATE TABLE sealed_answers (
    team uuid NOT NULL,
    registration uuid NOT NULL,
    name text NOT NULL,
    sealed bytea NOT NULL,
    given timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (team, registration, name),
    FOREIGN KEY (team, registration) REFERENCES registrations ON DELETE CASCADE
);

-- A value may be exchanged: the one before is kept until it is deleted, so that it is recognised where it still stands.
ALTER TABLE issued_values
    ADD COLUMN key text NOT NULL DEFAULT '',   -- the service's name of a key that can be exchanged
    ADD COLUMN label text NOT NULL DEFAULT '', -- of a key beside the first
    ADD COLUMN current boolean NOT NULL DEFAULT true,
    ADD COLUMN source text NOT NULL DEFAULT 'service' CHECK (source IN ('service', 'person')),
    DROP CONSTRAINT issued_values_team_registration_identity_name_key,
    ADD UNIQUE NULLS NOT DISTINCT (team, registration, identity, name, key);
ALTER TABLE config_files
    ADD COLUMN ends timestamptz,
    ADD COLUMN source text NOT NULL DEFAULT 'service' CHECK (source IN ('service', 'person'));

-- What was carried from one registration into another, and whether it was seen there afterwards.
CREATE TABLE carried (
    team uuid NOT NULL,
    registration uuid NOT NULL, -- that received it
    slot text NOT NULL,
    supplier uuid NOT NULL,
    value text NOT NULL,
    digest text NOT NULL,
    at timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (team, registration, slot),
    FOREIGN KEY (team, registration) REFERENCES registrations ON DELETE CASCADE,
    FOREIGN KEY (team, supplier) REFERENCES registrations ON DELETE CASCADE
);

ALTER TABLE duties ADD COLUMN note text NOT NULL DEFAULT '';
ALTER TABLE identities ADD COLUMN published_by text NOT NULL DEFAULT '';

DROP TABLE catalogue_items;
CREATE TABLE catalogue_items (
    team uuid NOT NULL,
    registration uuid NOT NULL,
    product text NOT NULL,
    kind text NOT NULL CHECK (kind IN ('consumable', 'non-consumable', 'subscription')),
    title text NOT NULL,
    subscription_group text NOT NULL DEFAULT '',
    price text NOT NULL DEFAULT '',
    active boolean NOT NULL DEFAULT true, -- whether it shall be sold
    PRIMARY KEY (team, registration, product),
    FOREIGN KEY (team, registration) REFERENCES registrations ON DELETE CASCADE
);

-- +goose Down
DROP TABLE carried, sealed_answers, catalogue_items;
CREATE TABLE catalogue_items (team uuid NOT NULL, app uuid NOT NULL, id uuid NOT NULL, product text NOT NULL, kind text NOT NULL,
    subscription_group text NOT NULL DEFAULT '', PRIMARY KEY (team, id), UNIQUE (team, app, product), FOREIGN KEY (team, app) REFERENCES apps ON DELETE CASCADE);
ALTER TABLE identities DROP COLUMN published_by;
ALTER TABLE duties DROP COLUMN note;
ALTER TABLE config_files DROP COLUMN ends, DROP COLUMN source;
DELETE FROM issued_values WHERE key <> '';
ALTER TABLE issued_values DROP COLUMN key, DROP COLUMN label, DROP COLUMN current, DROP COLUMN source, ADD UNIQUE NULLS NOT DISTINCT (team, registration, identity, name);
ALTER TABLE registration_steps DROP COLUMN request, DROP COLUMN attempt, ADD COLUMN request jsonb NOT NULL DEFAULT '{}';
ALTER TABLE registration_identities DROP COLUMN received, DROP COLUMN sources;
ALTER TABLE registrations DROP COLUMN redirects, DROP COLUMN received, DROP COLUMN fields, DROP COLUMN berths, DROP COLUMN looked, DROP COLUMN changed, DROP COLUMN access, ADD COLUMN busy timestamptz;
DROP INDEX sheets_current;
ALTER TABLE sheets DROP COLUMN current, DROP COLUMN who;
