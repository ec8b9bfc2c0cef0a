-- +goose Up
-- Open versions of a package; when one was touched is in no index, so that what comes of
-- a further file stays on its page.
drop index version_open;
create index version_open on version (package_id) where visible_from is null and visible_until is null;
alter table version set (fillfactor = 85);
-- Whoever publishes is noted by an id that is never given again; a lock on the row of a
-- principal, which all that it publishes at once would share, protects nothing.
alter table version drop constraint version_publisher_id_fkey;

-- Without statistics yet, either index may be taken to find a package by its name.
drop index package_namespace;
create index package_namespace on package (repository_id, ecosystem, namespace text_pattern_ops, name);
-- The order of what is recent is by the hour in the index, so that what every publication
-- changes of a package is in no index.
drop index package_recent;
alter table package
  add column last_hour timestamp generated always as (date_trunc('hour', last_arrived at time zone 'UTC')) stored;
create index package_recent on package (last_hour desc nulls last);
alter table package set (fillfactor = 70);

-- record_file records a file of a version that is open, in the usual case: the version is
-- new, or all of it came from the same publisher, once, and whole, and what the files
-- tell of it does not have to be put together. In any other case nothing is done, and
-- version_id is null.
-- +goose StatementBegin
create function record_file(
  repository bigint, ecosystem text, namespace text, package text, version text, upload text, snapshot boolean,
  uploaded_at timestamptz, upload_count integer, publisher bigint, published_by text, token text, build bigint,
  at timestamptz, afresh boolean, details jsonb, readme text, readme_format text,
  file text, classifier text, extension text, sha256 bytea, sha512 bytea, sha1 bytea, md5 bytea, size bigint,
  out version_id bigint, out sends integer
) language plpgsql as $$
#variable_conflict use_column
declare
  in_package bigint;
  usual boolean;
begin
  -- Everybody locks the version first and the package after it, so it is not locked here.
  select p.id into in_package from package p where p.repository_id = record_file.repository
    and p.ecosystem = record_file.ecosystem and p.namespace = record_file.namespace and p.name = record_file.package;
  if not found then
    insert into package as p (repository_id, ecosystem, namespace, name, changed_at)
      values (record_file.repository, record_file.ecosystem, record_file.namespace, record_file.package, record_file.at)
      on conflict (repository_id, ecosystem, namespace, name) do nothing returning p.id into in_package;
    if not found then
      select p.id into in_package from package p where p.repository_id = record_file.repository
        and p.ecosystem = record_file.ecosystem and p.namespace = record_file.namespace and p.name = record_file.package;
    end if;
  end if;

  select v.id, v.sends + 1, v.visible_from is null and v.broken_file = '' and not record_file.afresh
      and v.publisher_id = record_file.publisher and (v.details = '{}' or record_file.details = '{}')
      and not exists (select from file f where f.version_id = v.id and f.name = record_file.file)
    into record_file.version_id, record_file.sends, usual
    from version v where v.package_id = in_package and v.version = record_file.version
    and v.upload = record_file.upload and v.visible_until is null for no key update;
  if found then
    if usual is not true then
      record_file.version_id := null;
      return;
    end if;
    update version v set touched_at = record_file.at, sends = record_file.sends,
        details = case when v.details = '{}' then record_file.details else v.details end
      where v.id = record_file.version_id;
  else
    if exists (select from version v where v.package_id = in_package and v.version = record_file.version
        and not v.snapshot and v.visible_from is not null and v.visible_until is not null and not v.unseen) then
      return;
    end if;
    record_file.sends := 2;
    insert into version as v (package_id, version, upload, snapshot, uploaded_at, upload_count, publisher_id,
        published_by, touched_at, token, build_id, details, sends)
      values (in_package, record_file.version, record_file.upload, record_file.snapshot, record_file.uploaded_at,
        record_file.upload_count, record_file.publisher, record_file.published_by, record_file.at, record_file.token,
        record_file.build, record_file.details, record_file.sends)
      on conflict (package_id, version, upload) where visible_until is null do nothing
      returning v.id into record_file.version_id;
    if not found then
      return; -- somebody else was quicker
    end if;
  end if;

  insert into stored_file (sha256, sha512, sha1, md5, size, created_at)
    values (record_file.sha256, record_file.sha512, record_file.sha1, record_file.md5, record_file.size, record_file.at)
    on conflict (sha256) do nothing;
  insert into file (version_id, name, classifier, extension, sha256, added_at, sent, added_by)
    values (record_file.version_id, record_file.file, record_file.classifier, record_file.extension, record_file.sha256,
      record_file.at, record_file.sends, record_file.published_by);
  if record_file.readme is not null then
    insert into readme (version_id, text, format)
      values (record_file.version_id, record_file.readme, record_file.readme_format)
      on conflict (version_id) do update set text = excluded.text, format = excluded.format;
  end if;
end $$;
-- +goose StatementEnd

-- +goose Down
drop function record_file;
drop index package_namespace;
create index package_namespace on package (repository_id, ecosystem, namespace text_pattern_ops);
alter table package reset (fillfactor);
alter table package drop column last_hour;
create index package_recent on package (last_arrived desc nulls last);
update version set publisher_id = null where publisher_id is not null
  and not exists (select from principal p where p.id = publisher_id);
alter table version add constraint version_publisher_id_fkey foreign key (publisher_id) references principal (id)
  on delete set null;
alter table version reset (fillfactor);
drop index version_open;
create index version_open on version (touched_at) where visible_from is null;
