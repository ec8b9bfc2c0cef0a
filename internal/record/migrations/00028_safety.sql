-- +goose Up
-- Where advisories come from.
create table advisory_feed (
  id            smallint generated always as identity primary key,
  name          text not null unique,
  location      text not null,
  private       boolean not null default false, -- it was at a private address when it was added
  every         interval not null,
  by_name       text not null,
  added_at      timestamptz not null,
  state         jsonb not null default '{}',  -- how far each part of it was read
  begun_at      timestamptz,
  ended_at      timestamptz,
  failure       text not null default '',
  report        jsonb not null default '{}',  -- what the last run did
  working_until timestamptz not null default '-infinity'
);

-- What is known of vulnerabilities and malicious packages, from records in the OSV format.
create table advisory (
  id         text primary key,
  feed_id    smallint references advisory_feed on delete set null,
  by_name    text not null,            -- who brought it; the name of a feed
  modified   timestamptz not null,
  withdrawn  timestamptz,
  severity   smallint not null,        -- the worst that it says of any package
  summary    text not null,
  aliases    jsonb not null,
  record     jsonb not null,
  arrived_at timestamptz not null
);
create index advisory_modified on advisory (modified desc, id);
create index advisory_aliases on advisory using gin (aliases jsonb_path_ops);

-- The packages that they are about, and which versions.
create table advisory_package (
  advisory_id text not null references advisory on delete cascade,
  n           integer not null,
  ecosystem   text not null,
  namespace   text not null,
  name        text not null,
  affects     jsonb not null,
  primary key (advisory_id, n)
);
create index advisory_package_name on advisory_package (ecosystem, namespace, name);

create table waiver (
  id         bigint generated always as identity primary key,
  advisory   text not null,
  pattern    text not null,
  reason     text not null,
  by_name    text not null,
  made_at    timestamptz not null,
  until      timestamptz,
  ended_at   timestamptz,
  ended_by   text not null default ''
);
create index waiver_standing on waiver (advisory) where ended_at is null;

-- What it lets in.
alter table repository add column safety jsonb not null default '{}';

-- +goose Down
alter table repository drop column safety;
drop table waiver, advisory_package, advisory, advisory_feed;
