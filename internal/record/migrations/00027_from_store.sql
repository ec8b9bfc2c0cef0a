-- +goose Up
alter table repository add column from_store boolean not null default false;

-- +goose Down
alter table repository drop column from_store;
