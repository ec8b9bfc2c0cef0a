-- +goose Up
-- By what is asked for that hardly any version may have.
create index version_publisher on version (published_by) where visible_from is not null and visible_until is null;
create index version_licence on version (left((details->'licences')::text, 300))
  where visible_from is not null and visible_until is null;

-- +goose Down
drop index version_licence, version_publisher;
