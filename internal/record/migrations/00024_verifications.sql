-- +goose Up
-- Runs that read every stored byte and compare it with what it should be.
create table verification (
  id            bigint generated always as identity primary key,
  by_name       text not null,
  begun_at      timestamptz not null,
  ended_at      timestamptz,
  repair        boolean not null,
  cursor        bytea not null default '', -- up to which digest
  files         bigint not null default 0,
  bytes         bigint not null default 0,
  all_files     bigint not null default 0, -- that there were when it began
  all_bytes     bigint not null default 0,
  damaged       bigint not null default 0,
  mended        bigint not null default 0,
  unknown       bigint not null default 0,
  said          text not null default '',  -- why it does not go on
  working_until timestamptz not null default '-infinity'
);
create unique index verification_under_way on verification ((true)) where ended_at is null;

-- Stored bytes that are not what they should be.
create table damage (
  sha256    bytea not null references stored_file on delete cascade,
  store_id  smallint not null references store on delete cascade,
  what      text not null,
  found_at  timestamptz not null,
  mended_at timestamptz,
  how       text not null default '',
  primary key (sha256, store_id)
);

-- +goose Down
drop table damage;
drop table verification;
