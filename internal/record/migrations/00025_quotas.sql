-- +goose Up
-- How much a repository, a team (in the repositories that it is an admin of) or a store may
-- use. 0 is no bound.
create table quota (
  id            bigint generated always as identity primary key,
  repository_id bigint unique references repository,
  team_id       bigint unique references team on delete cascade,
  store_id      smallint unique references store on delete cascade,
  soft          bigint not null check (soft >= 0),
  hard          bigint not null check (hard >= 0),
  reached       text not null default '' check (reached in ('', 'soft', 'hard')), -- that was told last
  check (num_nonnulls(repository_id, team_id, store_id) = 1)
);

-- +goose Down
drop table quota;
