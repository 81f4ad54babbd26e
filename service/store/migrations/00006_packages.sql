-- +goose Up
-- Built packages that somebody handed in: what they hold, sealed, never the package itself.
CREATE TABLE packages (
    team uuid NOT NULL REFERENCES teams,
    id uuid NOT NULL,
    app uuid, -- null for a package of no app in the records
    at timestamptz NOT NULL,
    who text NOT NULL,
    name text NOT NULL,
    sha256 bytea NOT NULL,
    errors int,  -- null when its findings were not kept
    warnings int,
    notes int,
    body bytea NOT NULL,
    PRIMARY KEY (team, id),
    FOREIGN KEY (team, app) REFERENCES apps ON DELETE CASCADE
);
CREATE INDEX packages_of_app ON packages (team, app, at DESC);

-- +goose Down
DROP TABLE packages;
