-- +goose Up
-- What comes of a version before it is visible is in hardly any index, so that a further
-- file of it stays on its page.
drop index version_licence;
alter table version add column licences text
  generated always as (case when visible_from is not null then left((details->'licences')::text, 300) end) stored;
create index version_licence on version (licences) where visible_from is not null and visible_until is null;
drop index version_recent;
create index version_recent on version (package_id, visible_from desc)
  where visible_from is not null and visible_until is null;
-- A file is named by its version and its name.
alter table file drop constraint file_pkey;
alter table file drop constraint file_version_id_name_key;
alter table file add constraint file_pkey primary key (version_id, name);

-- record_file as before, with one look at the version, and without insertions that may be
-- taken back.
-- +goose StatementBegin
create or replace function record_file(
  repository bigint, ecosystem text, namespace text, package text, version text, upload text, snapshot boolean,
  uploaded_at timestamptz, upload_count integer, publisher bigint, published_by text, token text, build bigint,
  at timestamptz, afresh boolean, details jsonb, readme text, readme_format text,
  file text, classifier text, extension text, sha256 bytea, sha512 bytea, sha1 bytea, md5 bytea, size bigint,
  out version_id bigint, out sends integer
) language plpgsql as $$
#variable_conflict use_column
declare
  in_package bigint;
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

  -- Whoever was quicker in between is met by a unique index, and ends it.
  update version v set touched_at = record_file.at, sends = v.sends + 1,
      details = case when v.details = '{}' then record_file.details else v.details end
    where v.package_id = in_package and v.version = record_file.version and v.upload = record_file.upload
      and v.visible_until is null and v.visible_from is null and v.broken_file = '' and not record_file.afresh
      and v.publisher_id = record_file.publisher and (v.details = '{}' or record_file.details = '{}')
      and not exists (select from file f where f.version_id = v.id and f.name = record_file.file offset 0)
    returning v.id, v.sends into record_file.version_id, record_file.sends;
  if not found then
    if exists (select from version v where v.package_id = in_package and v.version = record_file.version
          and v.upload = record_file.upload and v.visible_until is null)
        or exists (select from version v where v.package_id = in_package and v.version = record_file.version
          and not v.snapshot and v.visible_from is not null and v.visible_until is not null and not v.unseen) then
      return;
    end if;
    record_file.sends := 2;
    insert into version as v (package_id, version, upload, snapshot, uploaded_at, upload_count, publisher_id,
        published_by, touched_at, token, build_id, details, sends)
      values (in_package, record_file.version, record_file.upload, record_file.snapshot, record_file.uploaded_at,
        record_file.upload_count, record_file.publisher, record_file.published_by, record_file.at, record_file.token,
        record_file.build, record_file.details, record_file.sends)
      returning v.id into record_file.version_id;
  end if;

  if not exists (select from stored_file b where b.sha256 = record_file.sha256) then
    insert into stored_file (sha256, sha512, sha1, md5, size, created_at)
      values (record_file.sha256, record_file.sha512, record_file.sha1, record_file.md5, record_file.size,
        record_file.at);
  end if;
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
-- +goose StatementBegin
create or replace function record_file(
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

alter table file drop constraint file_pkey;
alter table file add constraint file_version_id_name_key unique (version_id, name);
alter table file add constraint file_pkey primary key (id);
drop index version_recent;
create index version_recent on version (package_id, visible_from desc) where visible_until is null;
drop index version_licence;
alter table version drop column licences;
create index version_licence on version (left((details->'licences')::text, 300))
  where visible_from is not null and visible_until is null;
