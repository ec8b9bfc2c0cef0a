-- +goose Up
-- Large files are looked for by their size before their digest is computed and sent.
create index stored_file_large on stored_file (size) where size >= 8388608;

-- +goose Down
drop index stored_file_large;
