-- +goose Up
-- What debuggers may ask for, in the files of versions.
create table symbol (
  id         bigint generated always as identity primary key,
  version_id bigint not null references version on delete cascade,
  file       text not null,   -- of the version; empty of a file set
  path       text not null,   -- within the file or the set; empty if it is the file itself
  name       text not null,   -- what it is called, in small letters
  format     text not null,
  key        text not null,   -- what it is asked for by; empty if that is its name alone
  code       boolean not null,
  debug      boolean not null,
  size       bigint not null  -- bytes
);
create index symbol_key on symbol (key) where key <> '';
create index symbol_name on symbol (name);
create index symbol_version on symbol (version_id);
-- Versions that were looked into.
create table symbol_look (
  version_id bigint primary key references version on delete cascade,
  at         timestamptz not null,
  said       text not null -- what could not be read; empty if all could
);

-- +goose Down
drop table symbol_look;
drop table symbol;
