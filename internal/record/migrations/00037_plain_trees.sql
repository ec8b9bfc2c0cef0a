-- +goose Up
-- Targets that are plain trees: files that any web server hands out as they are.
alter table destination
  add column plain        boolean not null default false,
  add column read_at      text not null default '',    -- at which address the tree is read
  add column host_key     text not null default '',    -- of the machine, for SFTP
  add column worker       text not null default '',    -- who writes to it
  add column worked_until timestamptz not null default '-infinity',
  add column wrote_at     timestamptz,                 -- when it was written to last, and all was well
  add column failure      text not null default '',    -- what went wrong last
  add column attempts     integer not null default 0,  -- since all was well
  add column next_at      timestamptz not null default '-infinity';

-- A package in a tree. It is due while it was asked for more often than done.
create table plain_package (
  target    text not null references destination on delete cascade,
  namespace text not null,
  name      text not null,
  gives     bytea,                    -- to documents about all
  held      boolean not null default false, -- something of it is in the tree
  changed   timestamptz,              -- when the package changed last
  asked     bigint not null default 1,
  done      bigint not null default 0,
  primary key (target, namespace, name)
);
create index plain_package_due on plain_package (target) where asked > done;
create index plain_package_named on plain_package (name, namespace);

-- A version that belongs in a tree, which may be gone by now.
create table plain_version (
  target     text not null,
  namespace  text not null,
  name       text not null,
  version_id bigint not null,
  primary key (target, namespace, name, version_id),
  foreign key (target, namespace, name) references plain_package on delete cascade
);

-- A file that was written. Those about all packages have no name.
create table plain_file (
  target    text not null references destination on delete cascade,
  path      text not null,
  namespace text not null,
  name      text not null,
  sum       bytea not null,           -- of what it has, or is made from
  size      bigint not null,
  place     integer not null,         -- in the order in which they are written
  at        timestamptz not null,
  primary key (target, path)
);
create index plain_file_package on plain_file (target, namespace, name);

-- +goose Down
drop table plain_file;
drop table plain_version;
drop table plain_package;
alter table destination drop column plain, drop column read_at, drop column host_key, drop column worker,
  drop column worked_until, drop column wrote_at, drop column failure, drop column attempts, drop column next_at;
