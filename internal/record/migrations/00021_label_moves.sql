-- +goose Up
-- Where a label pointed, one time after the other.
create index label_moves on label (package_id, name, visible_from);

-- +goose Down
drop index label_moves;
