-- +goose Up
-- The programs that serve these records, each by one run of it. Times are the database's.
create table node (
  id         text primary key,
  name       text not null,
  address    text not null,
  version    text not null,
  started_at timestamptz not null default clock_timestamp(),
  seen_at    timestamptz not null default clock_timestamp(),
  -- since when it gave every sign of life in time
  steady_since timestamptz not null default clock_timestamp(),
  draining   boolean not null default false,
  requests   integer not null default 0,
  answered   bigint not null default 0,
  memory     bigint not null default 0,
  doing      text[] not null default '{}'
);

-- Which node began it, and up to when a node that died may have received something of it: it
-- does not become visible by itself, unless something came later.
alter table version add column node_id text, add column unattended_at timestamptz;
alter table version alter column node_id set default current_setting('crelvo.node', true);

-- Files that some node fetches from elsewhere, so that no other one does.
create table fetching (
  mirror_id bigint not null,
  path      text not null,
  node_id   text not null,
  until     timestamptz not null,
  primary key (mirror_id, path)
);

-- Wrong passwords, by account and place.
create table sign_in_failure (
  key     text primary key,
  times   integer not null,
  last_at timestamptz not null
);

-- Counts the rounds of sealing, so that each node can tell whether it heard of all that the
-- others did.
create sequence seal_round;

-- +goose Down
drop sequence seal_round;
drop table sign_in_failure;
drop table fetching;
drop table node;
alter table version drop column unattended_at, drop column node_id;
