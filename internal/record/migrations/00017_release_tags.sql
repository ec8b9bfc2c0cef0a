-- +goose Up
-- Patterns of labels that make releases of their versions in a repository, beside those that
-- do so anyway: a list of texts.
alter table repository add column release_tags jsonb not null default '[]';

-- +goose Down
alter table repository drop column release_tags;
