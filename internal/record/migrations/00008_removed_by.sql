-- +goose Up
alter table repository add column removed_by text not null default '';

-- +goose Down
alter table repository drop column removed_by;
