-- +goose Up
-- A pack of chunks of file sets whose chunks are known one by one.
create table pack (
  id     bigint generated always as identity primary key,
  sha256 bytea not null unique references stored_file on delete cascade
);
-- Where chunks are. What is here was read from the packs, and can be read from them again.
create table chunk (
  sha256  bytea not null,   -- of the chunk
  pack_id bigint not null references pack on delete cascade,
  at      bigint not null,  -- in the pack, bytes
  length  integer not null, -- bytes
  primary key (sha256, pack_id)
);
create index chunk_pack on chunk (pack_id);
-- Files that were read and found to consist of certain chunks: true whatever becomes of them.
create table assembled (
  sha256 bytea not null, -- of the file
  chunks bytea not null, -- of the digests and lengths of its chunks
  primary key (sha256, chunks)
);

-- +goose Down
drop table assembled;
drop table chunk;
drop table pack;
