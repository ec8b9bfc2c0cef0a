-- +goose Up
-- Repositories whose changes somebody elsewhere follows. Their changes are known from a number on; null: not yet.
create table followed (
  repository_id bigint primary key references repository on delete cascade,
  since         bigint,
  asked_at      timestamptz not null
);

-- When packages of those changed last, by a number that grows in the order in which changes can be seen.
create table package_change (
  repository_id bigint not null references repository on delete cascade,
  ecosystem     text not null,
  namespace     text not null,
  name          text not null,
  number        bigint not null,
  at            timestamptz not null,
  primary key (repository_id, ecosystem, namespace, name)
);
create index package_change_number on package_change (repository_id, number);
create sequence change_number;

-- How far a mirror is with the changes of its upstream.
create table mirror_following (
  repository_id bigint primary key references repository on delete cascade,
  upstream      text not null,           -- which it follows
  number        bigint not null,         -- of the last change that was taken over
  behind        integer not null default 0, -- packages that changed since
  oldest        timestamptz,             -- when the first of them did
  done_at       timestamptz,             -- when it was in step last
  asked_at      timestamptz,
  failure       text not null default '',
  until         timestamptz not null     -- a node is at it until then
);

-- +goose Down
drop table mirror_following;
drop table package_change;
drop sequence change_number;
drop table followed;
