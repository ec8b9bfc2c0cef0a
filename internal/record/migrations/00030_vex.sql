-- +goose Up
-- Why what a waiver is about is not affected, in the words of statements of exploitability; '' if
-- it is, and that is accepted.
alter table waiver add column justification text not null default '';

-- +goose Down
alter table waiver drop column justification;
