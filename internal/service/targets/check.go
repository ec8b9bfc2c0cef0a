package targets

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"crelvo/internal/core/access"
	"crelvo/internal/core/fault"
	"crelvo/internal/record"
	"crelvo/internal/service/act"
)

// Checked is what was found of a target.
type Checked struct {
	Files int // of a tree, that were looked at
	// Missing and Other are files that are not there, or not as they were written; of each at most MostChecked are
	// named. They are written again.
	Missing, Other   []string
	MissingN, OtherN int
}

// MostChecked is how many files are named.
const MostChecked = 50

// checkedAtOnce is how many files are looked at side by side.
const checkedAtOnce = 16

// Check tries a target. Of a tree, every file is looked at by its size, what is not as it should be is written
// again, and what waits for another attempt is tried now.
func (s *Targets) Check(ctx context.Context, caller access.Caller, name string) (c Checked, err error) {
	if err := s.directory.Allow(caller, access.Manage, act.Everything); err != nil {
		return c, err
	}
	to, err := s.target(ctx, name)
	if err != nil {
		return c, fault.New(fault.NotFound, "no-such-target", "there is no target %q", name).
			WithHint("crelvo target list shows those that there are.")
	}
	if !to.Plain {
		if err := s.Reach(ctx, name); err != nil {
			return c, fault.New(fault.Conflict, "not-reached", "it was not reached: %v", err)
		}
		return c, nil
	}
	if err := s.tryTree(ctx, to); err != nil {
		return c, err
	}
	t, err := s.open(ctx, to)
	if err != nil {
		return c, err
	}
	defer func() { err = errors.Join(err, t.close()) }()
	for after := ""; ; {
		some, err := s.DB.EachPlainFile(ctx, name, after, 1000)
		if err != nil {
			return c, err
		}
		if len(some) == 0 {
			break
		}
		after = some[len(some)-1].Path
		if err := t.look(ctx, &c, some); err != nil {
			return c, err
		}
	}
	slices.Sort(c.Missing)
	slices.Sort(c.Other)
	err = s.DB.Within(ctx, func(tx *record.Tx) error {
		if err := tx.AskForPlain(ctx, name); err != nil {
			return err
		}
		if err := tx.HurryPlain(ctx, name); err != nil {
			return err
		}
		return tx.Tell(ctx, record.Change{Kind: record.OfTarget, Name: name})
	})
	return c, err
}

// look looks at files, and forgets those that are not as they were written.
func (t *tree) look(ctx context.Context, c *Checked, some []record.PlainFile) error {
	group, within := errgroup.WithContext(ctx)
	group.SetLimit(checkedAtOnce)
	var mu sync.Mutex
	var lost []string
	for _, f := range some {
		group.Go(func() error {
			size, err := t.space.Size(within, f.Path)
			if err != nil && !errors.Is(err, fs.ErrNotExist) {
				return fmt.Errorf("%s: %w", f.Path, err)
			}
			mu.Lock()
			defer mu.Unlock()
			c.Files++
			switch {
			case err != nil:
				lost, c.MissingN = append(lost, f.Path), c.MissingN+1
				if len(c.Missing) < MostChecked {
					c.Missing = append(c.Missing, f.Path)
				}
			case size != f.Size:
				lost, c.OtherN = append(lost, f.Path), c.OtherN+1
				if len(c.Other) < MostChecked {
					c.Other = append(c.Other, f.Path)
				}
			}
			return nil
		})
	}
	if err := group.Wait(); err != nil || len(lost) == 0 {
		return err
	}
	return t.s.DB.Within(ctx, func(tx *record.Tx) error { return tx.ForgetPlainFiles(ctx, t.Name, lost) })
}

// longTrying is since when a tree fails that somebody is to look after.
const longTrying = 3

// Concerns tells which plain trees are not up to date.
func (s *Targets) Concerns(ctx context.Context) (found []act.Concern, err error) {
	all, err := s.DB.Targets(ctx)
	for _, t := range all {
		if t.Plain && t.Attempts >= longTrying {
			since := "never"
			if t.WroteAt != nil {
				since = t.WroteAt.UTC().Format(act.TimeForm)
			}
			found = append(found, act.Concern{Level: "wrong",
				What: fmt.Sprintf("The tree %s at %s is not up to date (all was well last: %s): %s", t.Name, t.URL, since,
					t.Failure),
				Do: "Mend it there, and try it: crelvo target check " + t.Name + ".", Page: "/targets"})
		}
	}
	return found, err
}

// reachedWithin is how long a server may take to answer whether it is there.
const reachedWithin = 20 * time.Second
