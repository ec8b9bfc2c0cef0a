-- +goose Up
-- Where bytes are kept. The first is the folder of the data folder, or what the service was
-- first started with.
create table store (
  id         smallint generated always as identity primary key,
  name       text not null unique,
  kind       text not null,
  settings   jsonb not null default '{}',
  secret     bytea,
  identity   text not null default '',
  is_default boolean not null default false,
  walked_at  timestamptz,
  created_at timestamptz not null
);
create unique index store_default on store ((true)) where is_default;
insert into store (name, kind, identity, is_default, walked_at, created_at)
  select 'main', 'folder', coalesce((select value from identity where what = 'store'), ''), true,
    (select value::timestamptz from identity where what = 'store walked' and value <> ''), now();

-- Where what is new in it goes; null is the default store.
alter table repository add column store_id smallint references store;

-- Where it is. A transaction that records bytes which are elsewhere says so by the setting.
alter table stored_file add column store_id smallint not null default 1;
alter table stored_file alter column store_id
  set default coalesce(nullif(current_setting('crelvo.store', true), '')::smallint, 1::smallint);

-- Where else it is.
create table stored_copy (
  sha256   bytea not null references stored_file on delete cascade,
  store_id smallint not null references store,
  primary key (sha256, store_id)
);
create index stored_copy_store on stored_copy (store_id);

-- What is to be copied to a store. Whoever does it says until when.
create table to_place (
  store_id    smallint not null references store,
  sha256      bytea not null references stored_file on delete cascade,
  tries       integer not null default 0,
  said        text not null default '',
  not_before  timestamptz not null default '-infinity',
  primary key (store_id, sha256)
);
create index to_place_sha256 on to_place (sha256);
create index to_place_next on to_place (not_before);

-- A move of what a repository holds to another store.
create table store_move (
  id            bigint generated always as identity primary key,
  repository_id bigint not null references repository,
  store_id      smallint not null references store,
  by_name       text not null,
  begun_at      timestamptz not null,
  ended_at      timestamptz,
  state         text not null,
  files         bigint not null default 0,
  bytes         bigint not null default 0,
  freed         bigint not null default 0,
  working_until timestamptz not null default '-infinity',
  cursor        bytea not null default ''
);
create unique index store_move_under_way on store_move (repository_id) where ended_at is null;

-- +goose Down
drop table store_move;
drop table to_place;
drop table stored_copy;
alter table stored_file drop column store_id;
alter table repository drop column store_id;
drop table store;
