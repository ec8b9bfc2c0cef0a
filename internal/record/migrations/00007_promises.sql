-- +goose Up

-- What was published here has one order among the uploads of its package: when it
-- became visible, and later than all before it, whatever the clocks said. Copies
-- of mirrors have the order of their upstream.
alter table package add column last_arrived timestamptz;
alter table version
  add column arrived        timestamptz,
  -- A version that is not complete may be sent again and again. Files are numbered
  -- as they come; a client has begun anew when it sends what it sent since it began
  -- (again_from). What was sent before counts_from does not count any more: since
  -- then another file came with other bytes, or the service ended in the middle.
  add column sends       int not null default 1,
  add column again_from  int not null default 1,
  add column counts_from int not null default 1;
update version v set arrived = v.visible_from from package p join repository r on r.id = p.repository_id
  where p.id = v.package_id and r.kind = 'house' and v.visible_from is not null;
update package p set last_arrived = (select max(coalesce(v.arrived, v.visible_from)) from version v where v.package_id = p.id);
-- What is recent is what arrived, and not what lost something.
drop index package_recent;
create index package_recent on package (last_arrived desc nulls last);
alter table file
  add column sent     int not null default 1, -- the number it came with last
  add column added_by text not null default '';

-- closed: a version that is complete takes no further files but signatures.
-- largest_file: in bytes; 0 is what the server says.
alter table repository
  add column closed       boolean not null default false,
  add column largest_file bigint  not null default 0;

-- Who may speak for the builds of a name.
create table build_name (
  name     text primary key,
  owner_id bigint references principal on delete set null,
  owner    text not null,
  given_by text not null default '', -- '' if it was the first to use it
  at       timestamptz not null
);
insert into build_name (name, owner_id, owner, at)
  select distinct on (name) name, owner_id, owner, started_at from build order by name, id;

-- What this database belongs together with.
create table identity (
  what  text primary key,
  value text not null
);

-- A withdrawal is about what is there: what went took its own with it.
update withdrawal w set visible_until = now() where w.visible_until is null and not exists (
  select from version v where v.package_id = w.package_id and v.version = w.version and v.visible_from is not null and v.visible_until is null);

-- +goose Down
drop index package_recent;
create index package_recent on package (changed_at desc);
drop table identity, build_name;
alter table repository drop column closed, drop column largest_file;
alter table file drop column sent, drop column added_by;
alter table version drop column arrived, drop column sends, drop column again_from, drop column counts_from;
alter table package drop column last_arrived;
