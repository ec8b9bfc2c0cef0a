-- +goose Up
alter table version
  add column bytes           bigint not null default 0, -- of its files, once it is visible
  add column grace_until     timestamptz, -- it was removed, and can be brought back until then
  add column reclaimed_at    timestamptz, -- its bytes are gone
  add column brought_back_at timestamptz;
update version v set bytes = coalesce((select sum(b.size) from file f join blob b using (sha256) where f.version_id = v.id), 0)
  where visible_from is not null;
update version set grace_until = visible_until + interval '14 days' where visible_until is not null;
create index version_grace on version (grace_until) where grace_until is not null;

-- When a version that was brought back was not there.
create table absence (
  version_id bigint not null references version,
  gone_from  timestamptz not null,
  back_at    timestamptz not null
);
create index absence_version on absence (version_id);

-- What is known of a file whose bytes are reclaimed: a release does not come back
-- with other ones.
create table past_file (
  version_id bigint not null references version,
  name       text not null,
  sha256     bytea not null,
  size       bigint not null,
  primary key (version_id, name)
);

alter table blob add column unnamed_since timestamptz; -- nothing named it then
create index blob_unnamed on blob (unnamed_since) where unnamed_since is not null;

create table retention_policy (
  id         bigint generated always as identity primary key,
  name       text not null unique,
  text       text not null, -- as it is written
  paused     boolean not null default false,
  changed_by text not null,
  changed_at timestamptz not null
);

create table sweep (
  id           bigint generated always as identity primary key,
  policy       text not null default '', -- '' for what was removed by hand
  text         text not null default '', -- the policy as it was
  state        text not null check (state in ('asking', 'underway', 'done', 'cancelled', 'failed')),
  why          text not null default '',
  grace        interval not null,
  begun_by     text not null,
  begun_at     timestamptz not null,
  alive_at     timestamptz not null,
  ended_at     timestamptz,
  repositories bigint[] not null,
  versions     int not null default 0,
  bytes        bigint not null default 0,
  freed        bigint not null default 0,
  done         int not null default 0,
  spared       int not null default 0
);
create index sweep_open on sweep (begun_at) where state in ('asking', 'underway');
create index sweep_policy on sweep (policy, id desc);

create table sweep_item (
  sweep_id   bigint not null references sweep,
  position   int not null,
  version_id bigint not null references version,
  bytes      bigint not null,
  freed      bigint not null,
  used_at    timestamptz,
  users      bigint not null default 0,
  state      text not null default 'planned' check (state in ('planned', 'removed', 'spared', 'back', 'reclaimed')),
  at         timestamptz,
  note       text not null default '',
  primary key (sweep_id, position)
);
create index sweep_item_version on sweep_item (version_id);
create index sweep_item_planned on sweep_item (sweep_id, position) where state = 'planned';

create table pin (
  id         bigint generated always as identity primary key,
  package_id bigint not null references package,
  version    text not null, -- or the name of an upload
  reason     text not null,
  by_name    text not null,
  at         timestamptz not null,
  until      timestamptz,
  ended_by   text not null default '',
  ended_at   timestamptz
);
create unique index pin_once on pin (package_id, version) where ended_at is null;

create table reclaiming (
  id        bigint generated always as identity primary key,
  begun_by  text not null,
  begun_at  timestamptz not null,
  ended_at  timestamptz,
  failure   text not null default '',
  versions  int not null default 0,
  marked    int not null default 0,
  files     int not null default 0,
  bytes     bigint not null default 0
);

-- Downloads are counted by what clients they come from, and whether people or
-- robots asked; users are those who did.
alter table download_day
  add column client text not null default '',
  add column who    text not null default '' check (who in ('', 'person', 'robot', 'nobody')),
  add column users  bigint[] not null default '{}',
  drop constraint download_day_pkey,
  add primary key (version_id, day, client, who);
create index download_day_day on download_day (day);
alter table version_use
  add column downloads bigint not null default 0,
  add column users     bigint not null default 0;
update version_use w set downloads = coalesce((select sum(d.downloads) from download_day d where d.version_id = w.version_id), 0),
  users = (select count(*) from download_user u where u.version_id = w.version_id);

-- +goose Down
drop table reclaiming, pin, sweep_item, sweep, retention_policy, past_file, absence;
alter table version_use drop column downloads, drop column users;
drop index download_day_day;
alter table download_day drop constraint download_day_pkey;
create temporary table summed on commit drop as select version_id, day, sum(downloads)::bigint downloads from download_day group by version_id, day;
truncate download_day;
alter table download_day drop column client, drop column who, drop column users, add primary key (version_id, day);
insert into download_day select * from summed;
drop index blob_unnamed;
alter table blob drop column unnamed_since;
drop index version_grace;
alter table version drop column bytes, drop column grace_until, drop column reclaimed_at, drop column brought_back_at;
