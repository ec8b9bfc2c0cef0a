-- +goose Up
-- Bytes of bundles that came, for versions that are to become visible all at once. What
-- nothing came of is dropped after a day.
create table landed (
  repository_id bigint not null references repository on delete cascade,
  sha256        bytea not null references stored_file,
  at            timestamptz not null,
  by_name       text not null,
  primary key (repository_id, sha256)
);
create index landed_stored_file on landed (sha256);
create index landed_at on landed (at);

-- Bundles that were made here, or loaded.
create table bundle (
  id          bigint generated always as identity primary key,
  loaded      boolean not null,
  bundle      text not null,              -- as it names itself
  since       text not null default '',   -- the one that it goes on from
  made_at     timestamptz not null,       -- as it says itself
  made_by     text not null,
  origin      jsonb not null,             -- the repositories that it was made from, and where each went to
  key         text not null,              -- that it was signed with
  versions    integer not null,
  came        integer not null default 0, -- versions that were not here before
  bytes       bigint not null,
  at          timestamptz not null,
  by_name     text not null
);
create index bundle_at on bundle (at);
create index bundle_named on bundle (bundle) where loaded;

-- +goose Down
drop table bundle;
drop table landed;
