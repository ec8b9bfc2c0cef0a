-- +goose Up
-- Files that belong to a package before any version names them: the layers of an image
-- are sent before the manifest that makes a version of them. Once named, a part stays
-- until the last version that names it has gone to history.
create table package_part (
  id         bigint generated always as identity primary key,
  package_id bigint not null references package,
  file       text not null,
  sha256     bytea not null references stored_file,
  named      boolean not null default false,
  at         timestamptz not null,
  by_name    text not null,
  unique (package_id, file)
);
create index package_part_stored_file on package_part (sha256);
create index package_part_sha512 on package_part (file) where file like 'sha512-%';
create index package_part_unnamed on package_part (at) where not named;

alter table file add column media_type text;

-- What says of itself that it is about another version of its package.
create index version_subject on version (package_id, (details->'native'->>'subject'))
  where details->'native'->>'subject' is not null;
-- Labels are listed by the bytes of their names.
create index label_listed on label (package_id, name collate "C") where visible_until is null;

-- What labels a promoted version had, and which it gets; with spaces between them.
alter table promotion_item add column labels_from text not null default '', add column labels_to text not null default '';

-- +goose Down
alter table promotion_item drop column labels_from, drop column labels_to;
drop index label_listed, version_subject;
alter table file drop column media_type;
drop table package_part;
