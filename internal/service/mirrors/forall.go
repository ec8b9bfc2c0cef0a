package mirrors

import (
	"context"
	"errors"
	"time"

	"crelvo/internal/core/catalog"
	"crelvo/internal/record"
	"crelvo/internal/service/act"
)

const (
	// fetchingFor is how long a node that fetches a file for all is let do so without a word
	// of it.
	fetchingFor = 15 * time.Second
	// lookAgain is how often it is looked whether another node has fetched a file.
	lookAgain = 100 * time.Millisecond
)

// forAll makes this node the one that fetches a file, until release is called; or it waits
// for another one that does, and gives what that kept, with a nil release. If that other one
// ends without it, it is this one's turn.
func (s *Mirrors) forAll(
	ctx context.Context, m *Mirror, q catalog.FileQuestion, path string,
) (f catalog.File, release func(), err error) {
	for {
		mine, err := s.DB.TakeFetching(ctx, m.ID, path, fetchingFor)
		if err != nil {
			return f, nil, err
		}
		if mine {
			break
		}
		select {
		case <-time.After(lookAgain):
		case <-ctx.Done():
			return f, nil, context.Cause(ctx)
		}
		if f, err := s.DB.File(ctx, q); !errors.Is(err, record.ErrNotFound) {
			return f, nil, err
		}
	}
	holding, stop := context.WithCancel(context.WithoutCancel(ctx))
	go s.Every(holding, act.Chore{Every: fetchingFor / 3, What: "holding what is fetched", Always: true,
		Do: func(ctx context.Context) error {
			_, err := s.DB.TakeFetching(ctx, m.ID, path, fetchingFor)
			return err
		}})
	return f, func() {
		stop()
		ending, cancel := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
		defer cancel()
		if err := s.DB.EndFetching(ending, m.ID, path); err != nil {
			s.Log.Warn("that a file is not fetched any more could not be noted", "path", path, "error", err)
		}
	}, nil
}
