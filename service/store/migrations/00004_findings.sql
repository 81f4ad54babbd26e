-- +goose Up
-- The newest report of each branch; the overview and the line-up show the newest of all.
ALTER TABLE reports DROP CONSTRAINT reports_pkey, ADD COLUMN branch text NOT NULL DEFAULT '', ADD PRIMARY KEY (team, app, branch);

-- How each finding stood over time on a branch: since when, and until when.
CREATE TABLE finding_states (
    team uuid NOT NULL,
    app uuid NOT NULL,
    branch text NOT NULL,
    fingerprint text NOT NULL,
    first timestamptz NOT NULL, -- of the stretch it stands, or stood last
    first_commit text NOT NULL DEFAULT '',
    last timestamptz NOT NULL,
    gone timestamptz,
    gone_commit text NOT NULL DEFAULT '',
    times int NOT NULL DEFAULT 1, -- how often it came
    body jsonb NOT NULL,
    PRIMARY KEY (team, app, branch, fingerprint),
    FOREIGN KEY (team, app) REFERENCES apps ON DELETE CASCADE
);

-- Every check that was reported, in short.
CREATE TABLE checks (
    team uuid NOT NULL,
    app uuid NOT NULL,
    at timestamptz NOT NULL,
    branch text NOT NULL,
    commit text NOT NULL,
    errors int NOT NULL,
    warnings int NOT NULL,
    notes int NOT NULL,
    not_looked int NOT NULL,
    PRIMARY KEY (team, app, at, branch)
) PARTITION BY RANGE (at);
CREATE TABLE checks_rest PARTITION OF checks DEFAULT;

-- +goose Down
DROP TABLE checks, finding_states;
DELETE FROM reports r USING reports n WHERE r.team = n.team AND r.app = n.app AND r.at < n.at;
ALTER TABLE reports DROP CONSTRAINT reports_pkey, DROP COLUMN branch, ADD PRIMARY KEY (team, app);
