-- +goose Up
-- Where a version came from that another Crelvo had, and what promotions brought it there.
create table origin (
  version_id bigint primary key references version on delete cascade,
  told       jsonb not null
);

-- +goose Down
drop table origin;
