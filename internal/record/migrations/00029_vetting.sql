-- +goose Up
-- What people decided about what comes from outside, or is kept.
create table vetting (
  id           bigint generated always as identity primary key,
  refused      boolean not null,               -- else accepted
  pattern      text not null,
  repositories jsonb not null default '[]',    -- patterns of names of those that it is about; none is all
  reason       text not null,
  by_name      text not null,
  made_at      timestamptz not null,
  until        timestamptz,
  ended_at     timestamptz,
  ended_by     text not null default ''
);
create index vetting_standing on vetting (id) where ended_at is null;

-- What somebody wanted and awaits a decision.
create table vetting_request (
  id            bigint generated always as identity primary key,
  repository_id bigint not null references repository on delete cascade, -- that was asked
  ecosystem     text not null,
  namespace     text not null,
  name          text not null,
  version       text not null,
  first_at      timestamptz not null,
  last_at       timestamptz not null,
  asked         bigint not null default 1,
  wanted_by     jsonb not null,                 -- by whom, each once; whoever asked last is the last
  purpose       text not null default '',       -- what for, as somebody said
  unique (repository_id, ecosystem, namespace, name, version)
);
create index vetting_request_last on vetting_request (last_at desc, id desc);

-- +goose Down
drop table vetting_request, vetting;
