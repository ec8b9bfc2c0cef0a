-- +goose Up
-- What is committed and not in the chain of events yet, nor told to the nodes: with an
-- event, where at is not null, and with changes. Whoever seals it knows which transactions
-- had ended when it last did, and looks only at what came from others.
create table unsealed (
  made_in    xid8 not null default pg_current_xact_id(),
  id         bigint generated always as identity,
  at         timestamptz,
  who        text not null default '',
  token      text not null default '',
  address    text not null default '',
  action     text not null default '',
  repository text not null default '',
  subject    text not null default '',
  detail     jsonb not null default '{}',
  changes    text[] not null,
  primary key (made_in, id)
) with (autovacuum_vacuum_scale_factor = 0, autovacuum_vacuum_threshold = 10000);

-- +goose Down
drop table unsealed;
