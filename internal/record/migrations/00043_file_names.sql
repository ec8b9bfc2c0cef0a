-- +goose Up
-- The paths of the files in versions of file sets, for searches: in small letters, each between line feeds. Versions with
-- the same paths share them.
create table file_names (
  id     bigint generated always as identity primary key,
  sha256 bytea not null unique, -- of the names
  names  text not null
);
create index file_names_words on file_names using gin (names gin_trgm_ops);
alter table symbol_look add column names_id bigint references file_names;
create index symbol_look_names on symbol_look (names_id) where names_id is not null;

-- +goose Down
alter table symbol_look drop column names_id;
drop table file_names;
