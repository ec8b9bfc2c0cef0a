-- +goose Up
-- What was found inside a version when somebody looked, whether it is kept or not.
create table look (
  repository_id bigint not null references repository on delete cascade,
  ecosystem     text not null,
  namespace     text not null,
  name          text not null,
  version       text not null,
  file          text not null,   -- the archive that was looked into
  digests       jsonb not null,  -- of that, in hexadecimal, by algorithm
  code          jsonb not null,  -- the files that a processor runs as they are
  licences      jsonb not null,  -- that it states inside, or whose texts it has
  at            timestamptz not null,
  primary key (repository_id, ecosystem, namespace, name, version)
);

-- +goose Down
drop table look;
