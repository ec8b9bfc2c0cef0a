-- +goose Up
-- What a version says of itself that it is built upon, by the digest of that.
create index version_base on version
  ((details->'native'->'annotations'->>'org.opencontainers.image.base.digest'))
  where details->'native'->'annotations'->>'org.opencontainers.image.base.digest' is not null;

-- +goose Down
drop index version_base;
