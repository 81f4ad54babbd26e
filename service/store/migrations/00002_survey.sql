-- +goose Up
-- What the last survey of a tree said of each variant: identifiers, minimums, digests, each with its place. Values that
-- a build file keeps secret are never sent.
ALTER TABLE variants
    ADD COLUMN platform text NOT NULL DEFAULT 'android',
    ADD COLUMN layout text NOT NULL DEFAULT '',
    ADD COLUMN facts jsonb NOT NULL DEFAULT '[]';

-- +goose Down
ALTER TABLE variants DROP COLUMN platform, DROP COLUMN layout, DROP COLUMN facts;
