-- +goose Up
-- restamps: what is restamped on the hop that is left alone otherwise: image-labels,
-- image-references.
alter table track_stage add column restamps text[] not null default '{}';
alter table promotion   add column restamps text[] not null default '{}';

-- +goose Down
alter table promotion   drop column restamps;
alter table track_stage drop column restamps;
