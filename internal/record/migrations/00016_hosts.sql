-- +goose Up
-- Names of hosts under which a repository answers by itself, in small letters and without a
-- port.
create table repository_host (
  host          text primary key,
  repository_id bigint not null references repository,
  position      integer not null
);
create index repository_host_repository on repository_host (repository_id);

-- +goose Down
drop table repository_host;
