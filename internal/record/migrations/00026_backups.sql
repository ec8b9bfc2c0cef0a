-- +goose Up
-- Runs that put all records and bytes somewhere else too.
create table backup (
  id            bigint generated always as identity primary key,
  target        text not null,
  name          text not null default '', -- in the target, when it is there
  by_name       text not null,
  begun_at      timestamptz not null,
  ended_at      timestamptz,
  state         text not null default 'under way' check (state in ('under way', 'done', 'failed')),
  files         bigint not null default 0,
  bytes         bigint not null default 0,
  new_files     bigint not null default 0,  -- that were not there from before
  new_bytes     bigint not null default 0,
  missing       bigint not null default 0,  -- files whose bytes could not be read
  said          text not null default '',
  working_until timestamptz not null
);
create unique index backup_under_way on backup ((true)) where state = 'under way';

-- +goose Down
drop table backup;
