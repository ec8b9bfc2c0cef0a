-- +goose Up
-- Rules that send what arrives in a repository on to another server.
create table relay (
  id            bigint generated always as identity primary key,
  name          text not null unique,
  repository_id bigint not null references repository on delete cascade,
  destination   text not null references destination,
  patterns      jsonb not null,          -- what is sent; none: everything
  holds         text not null check (holds in ('releases', 'snapshots', 'both')),
  since         timestamptz,             -- only what came since then
  schedule      text not null,           -- when it is looked for what was missed
  zone          text not null,
  hours         text not null default '', -- of the day, in the zone, in which it sends: 20:00-06:00; '': all
  rate          bigint not null,         -- bytes a second that are sent at most; 0: no bound
  paused        boolean not null default false,
  by_name       text not null,
  made_at       timestamptz not null,
  looked_at     timestamptz              -- when it was last looked for what was missed
);
create index relay_repository on relay (repository_id);

-- A version that a relay sends, or sent.
create table relay_item (
  relay_id   bigint not null references relay on delete cascade,
  version_id bigint not null,            -- which may be gone by now
  package_id bigint not null,
  bytes      bigint not null,
  state      text not null check (state in ('waiting', 'sent', 'failed')),
  attempts   integer not null default 0,
  queued_at  timestamptz not null,
  next_at    timestamptz not null,
  said       text not null default '',   -- what came of the last attempt
  ended_at   timestamptz,
  primary key (relay_id, version_id)
);
create index relay_item_waiting on relay_item (relay_id, package_id, version_id) where state = 'waiting';
create index relay_item_due on relay_item (next_at) where state = 'waiting';
create index relay_item_failed on relay_item (relay_id) where state = 'failed';

-- +goose Down
drop table relay_item;
drop table relay;
