-- +goose Up
-- When a label or a withdrawal that came from another Crelvo was made, or ended, there: whoever said so last is right.
alter table label add column said_at timestamptz, add column until_said_at timestamptz;
alter table withdrawal add column said_at timestamptz, add column until_said_at timestamptz;
alter table relay add column removals boolean not null default false;

-- A package of which a relay sent something to another Crelvo, which is told of its labels, withdrawals and removals.
create table relay_mark (
  relay_id   bigint not null references relay on delete cascade,
  package_id bigint not null references package on delete cascade,
  due        boolean not null,
  revision   bigint not null,            -- of the package when it was told last; -1: never
  told_at    timestamptz,                -- when that was
  attempts   integer not null default 0,
  next_at    timestamptz not null,
  said       text not null default '',   -- what came of the last attempt
  primary key (relay_id, package_id)
);
create index relay_mark_due on relay_mark (next_at) where due;
create index relay_item_package on relay_item (relay_id, package_id);

-- +goose Down
drop index relay_item_package;
drop table relay_mark;
alter table relay drop column removals;
alter table label drop column said_at, drop column until_said_at;
alter table withdrawal drop column said_at, drop column until_said_at;
