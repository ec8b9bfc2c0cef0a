// Package act is how anything is done in the service, whatever it is about.
package act

import (
	"context"
	"slices"

	"crelvo/internal/record"
)

// WriteAll writes a batch of what was counted or noted in memory. If a batch
// cannot be written for another reason than a database that is away, its halves
// are tried, down to single rows: one bad row costs only itself. It gives back
// the rows that were not written because the database is away, with the error,
// and those that nothing will ever write.
func WriteAll[T any](
	ctx context.Context, db *record.DB, rows []T, write func(tx *record.Tx, rows []T) error,
) (later, bad []T, err error) {
	if len(rows) == 0 {
		return nil, nil, nil
	}
	err = db.Within(ctx, func(tx *record.Tx) error { return write(tx, rows) })
	switch {
	case err == nil:
		return nil, nil, nil
	case ctx.Err() != nil || record.Unreachable(err) || record.TryAgain(err):
		return rows, nil, err
	case len(rows) == 1:
		return nil, rows, nil
	}
	half := len(rows) / 2
	for _, part := range [][]T{rows[:half], rows[half:]} {
		l, b, partErr := WriteAll(ctx, db, part, write)
		later, bad = slices.Concat(later, l), slices.Concat(bad, b)
		if partErr != nil {
			err = partErr
		}
	}
	if later == nil {
		err = nil
	}
	return later, bad, err
}
