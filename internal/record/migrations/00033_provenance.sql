-- +goose Up
-- What an upstream has about where a version was built: Sigstore bundles, verified whenever they are asked.
delete from look; -- nobody asked for it then, and whoever wants a version has it looked at anew
alter table look add column bundles jsonb not null default '[]';
alter table trusted_key drop constraint trusted_key_form_check,
  add constraint trusted_key_form_check check (form in ('openpgp', 'pem', 'trusted-root'));

-- +goose Down
delete from trusted_key where form = 'trusted-root';
alter table trusted_key drop constraint trusted_key_form_check,
  add constraint trusted_key_form_check check (form in ('openpgp', 'pem'));
alter table look drop column bundles;
