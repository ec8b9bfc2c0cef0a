-- +goose Up
drop table upstream;

alter table repository
  add column settings     jsonb not null default '{}', -- of a mirror
  add column secret       bytea,                       -- how a mirror signs in, encrypted
  add column releases_to  bigint references repository,
  add column snapshots_to bigint references repository;

alter table chain_member add column may_skip boolean not null default false;

-- What an upstream said of a path: a document that was read, or that there is
-- nothing.
create table upstream_document (
  repository_id bigint not null references repository on delete cascade,
  path          text not null,
  ecosystem     text not null,
  namespace     text not null,
  name          text not null, -- '' for what is about a namespace
  found         boolean not null,
  url           text not null default '', -- of the upstream that answered
  etag          text not null default '',
  last_modified text not null default '',
  checked_at    timestamptz not null,
  changed_at    timestamptz not null,
  failed_at     timestamptz,   -- when it could not be refreshed, since it was checked
  failure       text not null default '',
  listing       jsonb,
  primary key (repository_id, path)
);
create index upstream_document_package on upstream_document (repository_id, ecosystem, namespace, name);
create index upstream_document_absent on upstream_document (checked_at) where not found;
create index upstream_document_stale on upstream_document (repository_id, failed_at) where failed_at is not null;

create table version_use (
  version_id bigint primary key references version,
  used_at    timestamptz not null
);

create table mirror_hour (
  repository_id   bigint not null references repository on delete cascade,
  hour            timestamptz not null,
  hits            bigint not null default 0,
  misses          bigint not null default 0,
  stale           bigint not null default 0,
  failures        bigint not null default 0,
  requests        bigint not null default 0,
  bytes_served    bigint not null default 0,
  bytes_fetched   bigint not null default 0,
  first_byte_us   bigint not null default 0, -- sum over requests, in microseconds
  primary key (repository_id, hour)
);

create table upstream_contact (
  repository_id bigint not null references repository on delete cascade,
  url           text not null,
  contact_at    timestamptz, -- the last answer
  latency_us    bigint not null default 0,
  failed_at     timestamptz, -- the last failure
  failure       text not null default '',
  failing_since timestamptz,
  retry_at      timestamptz,
  primary key (repository_id, url)
);

create table claim (
  pattern text primary key,
  lifted  boolean not null,
  reason  text not null,
  by_name text not null,
  at      timestamptz not null
);

create table prefetch_run (
  id            bigint generated always as identity primary key,
  repository_id bigint not null references repository on delete cascade,
  begun_by      text not null,
  begun_at      timestamptz not null,
  touched_at    timestamptz not null,
  ended_at      timestamptz,
  failure       text not null default '',
  planned       int not null default 0,
  came          int not null default 0,
  there         int not null default 0,
  failed        int not null default 0,
  bytes         bigint not null default 0,
  report        jsonb not null default '[]'
);
create index prefetch_run_recent on prefetch_run (repository_id, begun_at desc);
create unique index prefetch_run_one on prefetch_run (repository_id) where ended_at is null;

-- +goose Down
drop table prefetch_run, claim, upstream_contact, mirror_hour, version_use, upstream_document;
alter table chain_member drop column may_skip;
alter table repository drop column settings, drop column secret, drop column releases_to, drop column snapshots_to;
create table upstream (
  repository_id bigint not null references repository on delete cascade,
  position      int not null,
  url           text not null,
  primary key (repository_id, position)
);
