package relays

import (
	"context"
	"time"

	"crelvo/internal/core/catalog"
	"crelvo/internal/core/text"
	"crelvo/internal/record"
	"crelvo/internal/service/act"
	"crelvo/internal/service/targets"
)

const (
	// toldOverlap is how far back it is told what was said: something may become visible with an earlier time.
	toldOverlap = 10 * time.Minute
	// longestSaid is how many letters are kept of what another server refused.
	longestSaid = 1000
)

// queueMarks has a relay tell of packages that changed, if its target is told of such: of one, or all if key names
// none.
func (s *Relays) queueMarks(
	ctx context.Context, r record.Relay, target record.Target, key catalog.PackageKey,
) error {
	if target.Plain || !targets.IsCrelvo(target.URL, target.Ecosystem) {
		return nil
	}
	_, err := s.DB.QueueMarks(ctx, r.ID, key, s.Now())
	return err
}

// tellOfSent has a relay tell of the packages of versions that it just sent: labels may lead to these.
func (s *Relays) tellOfSent(
	ctx context.Context, r record.Relay, items []record.RelayItem, failed map[int64]error,
) error {
	tells, err := s.targets.TellsMarks(ctx, r.Target)
	if err != nil || !tells {
		return nil // then nothing was sent, or there is nobody to be told
	}
	var packages []int64
	for _, item := range items {
		if failed[item.VersionID] == nil {
			packages = append(packages, item.PackageID)
		}
	}
	if packages == nil {
		return nil
	}
	return s.DB.TellAgain(ctx, r.ID, packages, s.Now())
}

// nextMark takes a package that a relay is to tell of.
func (s *Relays) nextMark(ctx context.Context) (m record.RelayMark, relay record.Relay, ok bool, err error) {
	open, all, err := s.open(ctx)
	if err != nil || open == nil {
		return m, relay, false, err
	}
	now := s.Now()
	if m, ok, err = s.DB.TakeMark(ctx, open, now, now.Add(targets.Lease)); err != nil || !ok {
		return m, relay, false, err
	}
	for _, r := range all {
		if r.ID == m.RelayID {
			relay = r
		}
	}
	return m, relay, true, nil
}

// tellMark tells the target of a relay what was said of a package.
func (s *Relays) tellMark(ctx context.Context, r record.Relay, m record.RelayMark) {
	leased, now := m.NextAt, s.Now()
	limited, cancel := context.WithTimeout(ctx, targets.Lease-time.Minute)
	defer cancel()
	marks, revision, err := s.DB.MarksOf(limited, m, r.Removals)
	if err == nil {
		m.Revision = revision
		marks.PURL = act.PURLOf(catalog.PackageKey{Ecosystem: m.Ecosystem, Namespace: m.Namespace, Name: m.Name}, "").String()
		var refused []string
		if refused, err = s.targets.Tell(limited, r.Target, marks); err == nil {
			m.Said = text.Clean(targets.InOne(refused), false, longestSaid)
		}
	}
	due, told := true, now.Add(-toldOverlap)
	if err == nil {
		m.ToldAt, m.Attempts, m.NextAt = &told, 0, s.Now()
	} else {
		o := s.targets.After(r.Target, m.Attempts, err)
		m.Revision, m.Said, m.Attempts, m.NextAt, due = -1, o.Said, o.Attempts, o.Next, !o.Failed
	}
	noting, cancel := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
	defer cancel()
	if err := s.DB.SetMark(noting, m, due, leased); err != nil {
		s.Log.Error("what came of telling of a package could not be noted", "relay", r.Name, "error", err)
	}
}
