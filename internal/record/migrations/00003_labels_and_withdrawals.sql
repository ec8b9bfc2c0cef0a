-- +goose Up

-- The transaction that changed a version last: what is cached of a package with
-- thousands of versions is brought up to date with those that changed since.
alter table version add column changed_in xid8 not null default pg_current_xact_id();
create index version_changed on version (package_id, changed_in);
-- What was published once and removed must not come back as something else.
create index version_gone on version (package_id, version) where visible_from is not null and visible_until is not null;

-- What words of a search are looked for in.
alter table package add column words text generated always as (lower(namespace || ' ' || name)) stored;
drop index package_words;
create index package_words on package using gin (words gin_trgm_ops);

create table label (
  package_id    bigint not null references package,
  name          text not null,
  version       text not null,
  set_by        text not null,
  visible_from  timestamptz not null,
  visible_until timestamptz
);
create unique index label_once on label (package_id, name) where visible_until is null;

create table withdrawal (
  package_id    bigint not null references package,
  version       text not null,
  reason        text not null,
  by_name       text not null,
  visible_from  timestamptz not null,
  visible_until timestamptz
);
create unique index withdrawal_once on withdrawal (package_id, version) where visible_until is null;

create table readme (
  version_id bigint primary key references version,
  text       text not null,
  format     text not null
);

create index version_use_at on version_use (used_at);

create table saved_search (
  owner_id bigint not null references principal on delete cascade,
  name     text not null,
  query    text not null,
  shared   boolean not null,
  at       timestamptz not null,
  primary key (owner_id, name)
);

-- Lists of upstreams are read and written as a whole, and compressed.
alter table upstream_document alter column listing type bytea using convert_to(listing::text, 'UTF8');

-- +goose Down
alter table upstream_document alter column listing type jsonb using null; -- they are fetched again
drop index version_use_at;
drop table saved_search, readme, withdrawal, label;
drop index version_gone, version_changed, package_words;
create index package_words on package using gin ((namespace || ' ' || name) gin_trgm_ops);
alter table package drop column words;
alter table version drop column changed_in;
