-- +goose Up
alter table principal
  add column description    text not null default '',
  add column password_given boolean not null default false, -- by somebody else, so it is to be changed
  add column blocked_at     timestamptz;

create table team (
  id          bigint generated always as identity primary key,
  name        text not null unique,
  description text not null default '',
  created_at  timestamptz not null
);

create table team_member (
  team_id      bigint not null references team on delete cascade,
  principal_id bigint not null references principal on delete cascade,
  primary key (team_id, principal_id)
);
create index team_member_principal on team_member (principal_id);

alter table role_grant
  drop constraint role_grant_pkey,
  alter column principal_id drop not null,
  add column id       bigint generated always as identity primary key,
  add column team_id  bigint references team on delete cascade,
  add column everyone text not null default '' check (everyone in ('', 'signed-in', 'anonymous')),
  add column packages text not null default '', -- a pattern; '' for all
  add column given_by text not null default '',
  add column given_at timestamptz not null default now(),
  add check (num_nonnulls(principal_id, team_id) + (everyone <> '')::int = 1);
create unique index role_grant_once on role_grant
  (coalesce(principal_id, 0), coalesce(team_id, 0), everyone, role, repositories, packages);
create index role_grant_team on role_grant (team_id);

alter table token add column packages text[] not null default '{}';
create index token_owner on token (principal_id);

alter table session
  add column address text not null default '',
  add column client  text not null default '';
create index session_principal on session (principal_id);

-- Whoever may read the chain may read what its members add. So it was with
-- every chain; new ones say so themselves.
alter table repository add column open_members boolean not null default false;
update repository set open_members = true where kind = 'chain';

create index event_who on event (who, id);
-- +goose StatementBegin
create function event_stays() returns trigger language plpgsql as $$
begin
  raise exception 'the activity record is only ever added to';
end $$;
-- +goose StatementEnd
create trigger event_stays before update or delete or truncate on event execute function event_stays();

-- +goose Down
drop trigger event_stays on event;
drop function event_stays;
drop index event_who, session_principal, token_owner, role_grant_team, role_grant_once;
alter table repository drop column open_members;
alter table session drop column address, drop column client;
alter table token drop column packages;
delete from role_grant where principal_id is null or packages <> '';
alter table role_grant drop column id, drop column team_id, drop column everyone, drop column packages, drop column given_by, drop column given_at,
  alter column principal_id set not null, add primary key (principal_id, role, repositories);
drop table team_member, team;
alter table principal drop column description, drop column password_given, drop column blocked_at;
