-- +goose Up
-- How much more an upstream lets us ask, by its own word: so many of so many within a window
-- of seconds, and when there is more.
alter table upstream_contact
  add column allowed_at     timestamptz,
  add column allowed_left   bigint not null default 0,
  add column allowed_most   bigint not null default 0,
  add column allowed_window bigint not null default 0,
  add column allowed_again  timestamptz;

-- +goose Down
alter table upstream_contact
  drop column allowed_at, drop column allowed_left, drop column allowed_most, drop column allowed_window,
  drop column allowed_again;
