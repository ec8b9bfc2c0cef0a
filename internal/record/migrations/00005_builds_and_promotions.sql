-- +goose Up
create table build (
  id         bigint generated always as identity primary key,
  name       text not null,
  number     text not null,
  revision   text not null default '',
  branch     text not null default '',
  link       text not null default '',
  agent      text not null default '',
  notes      jsonb not null default '{}',
  tests      jsonb,
  started_at timestamptz not null,
  ended_at   timestamptz, -- when it was recorded; null while it runs
  owner_id   bigint references principal on delete set null,
  owner      text not null,
  token      text not null default '',
  unique (name, number)
);
create index build_open on build (owner_id) where ended_at is null;
create index build_started on build (started_at desc);

create table build_use (
  build_id   bigint not null references build,
  version_id bigint not null references version,
  primary key (build_id, version_id)
);
create index build_use_version on build_use (version_id);

create table build_document (
  id        bigint generated always as identity primary key,
  build_id  bigint not null references build,
  name      text not null,
  kind      text not null,
  type      text not null,
  builder   text not null default '',
  signed    boolean not null,
  signed_by text[] not null,
  content   bytea not null,
  by_name   text not null,
  at        timestamptz not null
);
create index build_document_build on build_document (build_id);

create table token_download (
  principal_id bigint not null references principal on delete cascade,
  token        text not null,
  version_id   bigint not null references version,
  last_at      timestamptz not null,
  primary key (principal_id, token, version_id)
);

create table trusted_key (
  name    text primary key,
  form    text not null check (form in ('openpgp', 'pem')),
  text    text not null,
  by_name text not null,
  at      timestamptz not null
);

create table signing_key (
  name        text primary key,
  fingerprint text not null,
  public      text not null,
  secret      bytea not null, -- encrypted
  by_name     text not null,
  at          timestamptz not null
);

create table destination (
  name      text primary key,
  ecosystem text not null,
  url       text not null,
  private   boolean not null,
  secret    bytea, -- encrypted
  by_name   text not null,
  at        timestamptz not null
);

create table track (
  id          bigint generated always as identity primary key,
  name        text not null unique,
  description text not null default '',
  created_at  timestamptz not null
);

-- A stage has what is asked for on the hop that leads into it.
create table track_stage (
  track_id      bigint not null references track on delete cascade,
  position      int not null,
  repository_id bigint not null references repository,
  gates         text[] not null default '{}',
  sign_with     text not null default '',
  onward        text[] not null default '{}',
  primary key (track_id, position)
);

create table promotion (
  id          bigint generated always as identity primary key,
  track       text not null,
  from_id     bigint not null references repository,
  to_id       bigint not null references repository,
  build_id    bigint references build,
  state       text not null check (state in ('waiting', 'underway', 'done', 'failed', 'refused', 'cancelled', 'undone')),
  gates       text[] not null, -- as they were when it was asked for
  sign_with   text not null,
  onward      text[] not null,
  go_on       boolean not null, -- past what cannot be restamped
  notes       text not null default '',
  answers     jsonb not null default '[]',
  plan        jsonb not null default '[]',
  why         text not null default '',
  asked_by    text not null,
  asked_by_id bigint references principal on delete set null,
  asked_at    timestamptz not null,
  ended_at    timestamptz,
  files       int not null default 0,
  files_done  int not null default 0,
  alive_at    timestamptz not null,
  undone_by   text not null default '',
  undone_at   timestamptz,
  undo_reason text not null default ''
);
create index promotion_open on promotion (asked_at) where state in ('waiting', 'underway');
create index promotion_to on promotion (to_id, ended_at desc);

create table promotion_item (
  promotion_id bigint not null references promotion,
  position     int not null,
  source_id    bigint not null references version,
  target_id    bigint references version,
  to_version   text not null,
  primary key (promotion_id, position)
);
create index promotion_item_source on promotion_item (source_id);
create index promotion_item_target on promotion_item (target_id);

create table promotion_vote (
  promotion_id bigint not null references promotion,
  who          text not null,
  teams        text[] not null,
  approve      boolean not null,
  comment      text not null default '',
  at           timestamptz not null,
  primary key (promotion_id, who)
);

create table delivery (
  id           bigint generated always as identity primary key,
  promotion_id bigint not null references promotion,
  destination  text not null,
  version_id   bigint not null references version,
  state        text not null check (state in ('waiting', 'done', 'failed', 'cancelled')),
  attempts     int not null default 0,
  next_at      timestamptz not null,
  said         text not null default '',
  ended_at     timestamptz
);
create index delivery_due on delivery (next_at) where state = 'waiting';
create index delivery_promotion on delivery (promotion_id);

alter table version
  add column build_id bigint references build,
  add column token    text not null default '', -- that it was published with
  add column unseen   boolean not null default false; -- it was taken back before anybody had it
create index version_build on version (build_id) where build_id is not null;
drop index version_gone;
create index version_gone on version (package_id, version) where visible_from is not null and visible_until is not null and not unseen;

alter table file add column made_from bytea; -- the SHA-256 of what it was before a restamp

alter table repository
  add column only_builds boolean not null default false,
  add column only_robots boolean not null default false;

-- +goose Down
alter table repository drop column only_builds, drop column only_robots;
alter table file drop column made_from;
drop index version_gone, version_build;
alter table version drop column build_id, drop column token, drop column unseen;
create index version_gone on version (package_id, version) where visible_from is not null and visible_until is not null;
drop table delivery, promotion_vote, promotion_item, promotion, track_stage, track, destination, signing_key, trusted_key,
  token_download, build_document, build_use, build;
