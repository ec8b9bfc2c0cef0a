-- +goose Up
alter table blob rename to stored_file;
alter index blob_pkey rename to stored_file_pkey;
alter index blob_unnamed rename to stored_file_unnamed;
alter index file_blob rename to file_stored_file;

-- +goose Down
alter index file_stored_file rename to file_blob;
alter index stored_file_unnamed rename to blob_unnamed;
alter index stored_file_pkey rename to blob_pkey;
alter table stored_file rename to blob;
