-- +goose Up
create table principal (
  id            bigint generated always as identity primary key,
  name          text not null unique,
  kind          text not null check (kind in ('user', 'robot')),
  password_hash text not null default '',
  created_at    timestamptz not null
);

create table role_grant (
  principal_id bigint not null references principal on delete cascade,
  role         text not null check (role in ('reader', 'publisher', 'promoter', 'curator', 'admin')),
  repositories text not null,
  primary key (principal_id, role, repositories)
);

create table token (
  id           bigint generated always as identity primary key,
  principal_id bigint not null references principal on delete cascade,
  name         text not null,
  hash         bytea not null unique,
  can          text[] not null default '{}',
  repositories text[] not null default '{}',
  created_at   timestamptz not null,
  expires_at   timestamptz not null,
  revoked_at   timestamptz,
  used_at      timestamptz,
  used_from    text not null default '',
  used_client  text not null default ''
);
create unique index token_name on token (principal_id, name) where revoked_at is null;

create table session (
  hash         bytea primary key,
  principal_id bigint not null references principal on delete cascade,
  created_at   timestamptz not null,
  expires_at   timestamptz not null
);

create table repository (
  id             bigint generated always as identity primary key,
  name           text not null,
  kind           text not null check (kind in ('house', 'mirror', 'chain')),
  holds          text not null check (holds in ('snapshots', 'releases', 'both')),
  ecosystem      text not null default '',
  description    text not null default '',
  anonymous_read boolean not null default false,
  created_at     timestamptz not null,
  changed_at     timestamptz not null,
  removed_at     timestamptz,
  check ((kind = 'mirror') = (ecosystem <> ''))
);
create unique index repository_name on repository (name) where removed_at is null;

create table upstream (
  repository_id bigint not null references repository on delete cascade,
  position      int not null,
  url           text not null,
  primary key (repository_id, position)
);

create table chain_member (
  chain_id  bigint not null references repository on delete cascade,
  position  int not null,
  member_id bigint not null references repository,
  primary key (chain_id, position),
  unique (chain_id, member_id)
);

create table package (
  id            bigint generated always as identity primary key,
  repository_id bigint not null references repository,
  ecosystem     text not null,
  namespace     text not null,
  name          text not null,
  revision      bigint not null default 0,
  changed_at    timestamptz not null,
  -- what is visible of it, kept with the revision so that totals need no counting
  versions      bigint not null default 0,
  bytes         bigint not null default 0,
  unique (repository_id, ecosystem, namespace, name)
);
create index package_namespace on package (repository_id, ecosystem, namespace text_pattern_ops);
create index package_recent on package (changed_at desc);
create extension if not exists pg_trgm;
create index package_words on package using gin ((namespace || ' ' || name) gin_trgm_ops);

create table version (
  id            bigint generated always as identity primary key,
  package_id    bigint not null references package,
  version       text not null,
  upload        text not null default '',
  snapshot      boolean not null,
  uploaded_at   timestamptz not null,
  upload_count  int not null default 0,
  publisher_id  bigint references principal on delete set null,
  published_by  text not null,
  touched_at    timestamptz not null,
  visible_from  timestamptz,
  visible_until timestamptz,
  broken_file   text not null default '',
  details       jsonb not null default '{}'
);
create unique index version_once on version (package_id, version, upload) where visible_until is null;
create index version_recent on version (package_id, visible_from desc) where visible_until is null;
create index version_open on version (touched_at) where visible_from is null;

create table blob (
  sha256     bytea primary key,
  sha512     bytea not null,
  sha1       bytea not null,
  md5        bytea not null,
  size       bigint not null,
  created_at timestamptz not null
);

create table file (
  id         bigint generated always as identity primary key,
  version_id bigint not null references version,
  name       text not null,
  classifier text not null default '',
  extension  text not null,
  sha256     bytea not null references blob,
  added_at   timestamptz not null,
  unique (version_id, name)
);
create index file_blob on file (sha256);

create table download_day (
  version_id bigint not null references version,
  day        date not null,
  downloads  bigint not null,
  primary key (version_id, day)
);

create table download_user (
  version_id   bigint not null references version,
  principal_id bigint not null references principal on delete cascade,
  last_at      timestamptz not null,
  primary key (version_id, principal_id)
);

create table event (
  id         bigint primary key,
  at         timestamptz not null,
  who        text not null,
  token      text not null default '',
  address    text not null default '',
  action     text not null,
  repository text not null default '',
  subject    text not null default '',
  detail     jsonb not null default '{}',
  previous   bytea not null,
  hash       bytea not null
);
create index event_at on event (at);

-- +goose Down
drop table event, download_user, download_day, file, blob, version, package, chain_member, upstream,
  repository, session, token, role_grant, principal;
