package record

import (
	"context"
	"time"

	"github.com/jmoiron/sqlx"
)

// Target is a place outside that versions go on to: a server of their ecosystem or, if it is plain, a tree of files
// that any web server hands out as they are.
type Target struct {
	Name      string    `db:"name"`
	Ecosystem string    `db:"ecosystem"`
	URL       string    `db:"url"`
	Private   bool      `db:"private"` // it was at a private address when it was set
	Secret    []byte    `db:"secret"`  // encrypted
	ByName    string    `db:"by_name"`
	At        time.Time `db:"at"`

	// Of a plain one.
	Plain    bool       `db:"plain"`
	ReadAt   string     `db:"read_at"`  // at which address the tree is read; "" if that is not known
	HostKey  string     `db:"host_key"` // of the machine, for SFTP
	WroteAt  *time.Time `db:"wrote_at"` // when it was written to last, and all was well
	Failure  string     `db:"failure"`  // what went wrong last
	Attempts int        `db:"attempts"` // since all was well
	NextAt   time.Time  `db:"next_at"`  // when it is tried again
}

// Targets lists all by name.
func (r reads) Targets(ctx context.Context) (all []Target, err error) {
	err = sqlx.SelectContext(ctx, r.q, &all, `select name, ecosystem, url, private, secret, by_name, at, plain, read_at,
		host_key, wrote_at, failure, attempts, greatest(next_at, 'epoch') next_at from destination order by name`)
	return all, err
}

// SetTarget adds one, or writes it anew. What is known of a tree at another place is forgotten, and all of a tree is
// looked at again.
func (tx *Tx) SetTarget(ctx context.Context, d Target) error {
	if _, err := tx.ExecContext(ctx, `delete from plain_file f using destination d where d.name = $1 and f.target = d.name
		and (d.url, d.ecosystem, d.plain) is distinct from ($2, $3, $4)`, d.Name, d.URL, d.Ecosystem, d.Plain); err != nil {
		return err
	}
	if _, err := tx.ExecContext(ctx, `delete from plain_package p using destination d where d.name = $1 and
		p.target = d.name and (d.ecosystem, d.plain) is distinct from ($2, $3)`, d.Name, d.Ecosystem, d.Plain); err != nil {
		return err
	}
	_, err := tx.ExecContext(ctx,
		`insert into destination (name, ecosystem, url, private, secret, by_name, at, plain, read_at, host_key)
		values ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10)
		on conflict (name) do update set ecosystem = excluded.ecosystem, url = excluded.url, private = excluded.private,
		secret = excluded.secret, by_name = excluded.by_name, at = excluded.at, plain = excluded.plain,
		read_at = excluded.read_at, host_key = excluded.host_key, attempts = 0, next_at = '-infinity', failure = ''`,
		d.Name, d.Ecosystem, d.URL, d.Private, d.Secret, d.ByName, d.At, d.Plain, d.ReadAt, d.HostKey)
	if err != nil {
		return err
	}
	return tx.AskForPlain(ctx, d.Name)
}

// RemoveTarget removes one; done is false if there is none.
func (tx *Tx) RemoveTarget(ctx context.Context, name string) (done bool, err error) {
	return changedOne(tx.ExecContext(ctx, `delete from destination where name = $1`, name))
}
