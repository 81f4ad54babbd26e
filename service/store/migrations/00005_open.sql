-- +goose Up
-- What anybody may do at the service without leave, for as long as something is only tried, and until when.
ALTER TABLE registrations ADD COLUMN open_access jsonb NOT NULL DEFAULT '[]';

-- +goose Down
ALTER TABLE registrations DROP COLUMN open_access;
