-- +goose Up
-- Moves of packages from one repository into another, planned first.
create table transfer (
  id          bigint generated always as identity primary key,
  from_id     bigint not null,
  from_name   text not null,           -- as it was called when this was asked for
  to_id       bigint not null,
  to_name     text not null,
  patterns    jsonb not null,          -- what is wanted; none: everything
  since       timestamptz,             -- only what was published since then
  dry         boolean not null,        -- it ends with the plan
  rate        bigint not null,         -- bytes a second that are fetched at most; 0: no bound
  by_name     text not null,
  token       text not null,           -- by which it was asked for; '': by none
  begun_at    timestamptz not null,
  ended_at    timestamptz,
  state       text not null check (state in ('planning', 'moving', 'checking', 'done', 'stopped', 'failed')),
  failure     text not null default '',
  packages    integer not null default 0, -- that were looked at for the plan
  fetched     bigint not null default 0,  -- bytes that came from elsewhere
  worker      text not null default '',
  touched_at  timestamptz not null default '-infinity'
);
create index transfer_underway on transfer (id) where ended_at is null;

create table transfer_item (
  transfer_id bigint not null references transfer on delete cascade,
  n           integer not null,
  ecosystem   text not null,
  namespace   text not null,
  name        text not null,
  version     text not null,
  upload      text not null,
  files       integer not null,
  bytes       bigint not null,
  travels     bigint not null,         -- of these, that are to be fetched
  state       text not null check (state in ('new', 'there', 'refused', 'came', 'failed')),
  why         text not null default '',
  proof       bytea,                   -- of what came: SHA-256 of its file names and digests
  primary key (transfer_id, n)
);
create index transfer_item_state on transfer_item (transfer_id, state, n);

-- When a version was published where it came from; it is visible here from when it came.
alter table version add column first_at timestamptz;

-- +goose Down
alter table version drop column first_at;
drop table transfer_item;
drop table transfer;
