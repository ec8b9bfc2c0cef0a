-- +goose Up
-- Bills of materials that are versions themselves, and about which others of their package.
create table bill (
  version_id bigint primary key references version,
  about      text[] not null,
  failure    text not null default '', -- why nothing of it is known
  read_at    timestamptz not null
);
-- What they say is inside these.
create table bill_entry (
  ecosystem  text not null,
  namespace  text not null,
  name       text not null,
  version    text not null,
  version_id bigint not null references bill on delete cascade, -- of the bill
  primary key (ecosystem, namespace, name, version, version_id)
);
create index version_bill on version (id)
  where version like 'sha%:%' and details @? '$.native.parts[*].mediaType ? (@ like_regex "spdx|cyclonedx|in-toto|dsse")';

-- +goose Down
drop index version_bill;
drop table bill_entry, bill;
