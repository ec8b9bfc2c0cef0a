package safety

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"time"

	"crelvo/internal/core/access"
	"crelvo/internal/core/budget"
	"crelvo/internal/core/fault"
	"crelvo/internal/record"
	"crelvo/internal/service/act"
	"crelvo/internal/upstream"
)

const (
	// heldFor is after how long without a sign of its node a run is taken for dead.
	heldFor  = time.Minute
	noteEach = 10 * time.Second
	// leastEvery is how often a feed is read at most.
	leastEvery = time.Minute
	// DefaultEvery is how often it is, if nothing else is said.
	DefaultEvery = time.Hour
)

// NewFeed is a source of advisories that somebody wants to add.
type NewFeed struct {
	Name, Location string
	Every          time.Duration // 0 is DefaultEvery
}

// Feeds lists where advisories come from.
func (s *Safety) Feeds(ctx context.Context, caller access.Caller) ([]record.Feed, error) {
	if err := s.directory.Allow(caller, access.Manage, act.Everything); err != nil {
		return nil, err
	}
	return s.DB.Feeds(ctx, s.Now())
}

// Feed shows one of them.
func (s *Safety) Feed(ctx context.Context, caller access.Caller, name string) (record.Feed, error) {
	all, err := s.Feeds(ctx, caller)
	if err != nil {
		return record.Feed{}, err
	}
	for _, f := range all {
		if f.Name == name {
			return f, nil
		}
	}
	return record.Feed{}, noFeed(name)
}

func noFeed(name string) error {
	return fault.New(fault.NotFound, "no-such-feed", "there is no feed %q", name).
		WithHint("crelvo advisory feed list shows those that there are.")
}

// AddFeed adds a source of advisories, and begins to read it.
func (s *Safety) AddFeed(ctx context.Context, caller access.Caller, n NewFeed) (f record.Feed, err error) {
	if err := s.directory.Allow(caller, access.Manage, act.Everything); err != nil {
		return f, err
	}
	if err := act.CheckName("feed", n.Name); err != nil {
		return f, err
	}
	if n.Every == 0 {
		n.Every = DefaultEvery
	}
	if n.Every < leastEvery || n.Every > 366*24*time.Hour {
		return f, act.Invalid("bad-time", "a feed cannot be read every %s", n.Every).
			WithHint("Write 1m or longer.")
	}
	f = record.Feed{Name: n.Name, Every: n.Every, By: caller.Name, AddedAt: s.Now()}
	if f.Location, f.Private, err = located(ctx, n.Location); err != nil {
		return f, err
	}
	event := s.Event(caller, record.EventFeedAdded)
	event.Subject = f.Name
	event.Detail = map[string]string{"location": f.Location, "every": f.Every.String()}
	if err := s.DB.Within(ctx, func(tx *record.Tx) error {
		added, err := tx.AddFeed(ctx, f)
		if err != nil {
			return err
		}
		if !added {
			return fault.New(fault.Conflict, "name-taken", "there is a feed %q already", f.Name).WithHint("Choose another name.")
		}
		return tx.Append(ctx, event, record.Change{Kind: record.OfFeed})
	}); err != nil {
		return f, err
	}
	return s.RunFeed(ctx, caller, f.Name)
}

// located checks where a feed is: the whole path of a folder or archive of the server's, or an
// address. private tells that it is one that leads to a private network.
func located(ctx context.Context, location string) (_ string, private bool, err error) {
	if u, err := url.Parse(location); err == nil && (u.Scheme == "http" || u.Scheme == "https") {
		if u.Host == "" || u.User != nil || u.RawQuery != "" || u.Fragment != "" {
			return "", false, act.Invalid("bad-location", "%q is no address of a feed", location).
				WithHint("Write it like https://advisories.openshore.example, without a name, a password or a question.")
		}
		location = strings.TrimSuffix(location, "/")
		return location, upstream.LeadsToPrivate(ctx, location), nil
	}
	if !filepath.IsAbs(location) {
		return "", false, act.Invalid("bad-location",
			"%q is neither an address nor the whole path of a folder or archive", location).
			WithHint("Write it like https://advisories.openshore.example or /srv/advisories, on the server.")
	}
	if _, err := os.Stat(location); err != nil {
		return "", false, act.Invalid("bad-location", "%q cannot be read on the server: %v", location, errors.Unwrap(err)).
			WithHint("Every node must find it there.")
	}
	return filepath.Clean(location), false, nil
}

// RemoveFeed takes a feed away; what it brought stays.
func (s *Safety) RemoveFeed(ctx context.Context, caller access.Caller, name string) error {
	if err := s.directory.Allow(caller, access.Manage, act.Everything); err != nil {
		return err
	}
	event := s.Event(caller, record.EventFeedRemoved)
	event.Subject = name
	return s.DB.Within(ctx, func(tx *record.Tx) error {
		removed, err := tx.RemoveFeed(ctx, name)
		if err != nil {
			return err
		}
		if !removed {
			return noFeed(name)
		}
		return tx.Append(ctx, event, record.Change{Kind: record.OfFeed})
	})
}

// RunFeed begins to read a feed, in the background.
func (s *Safety) RunFeed(ctx context.Context, caller access.Caller, name string) (f record.Feed, err error) {
	if f, err = s.Feed(ctx, caller, name); err != nil {
		return f, err
	}
	claimed, err := s.DB.ClaimFeed(ctx, name, s.Now(), s.Now().Add(heldFor))
	if errors.Is(err, record.ErrNotFound) {
		return f, fault.New(fault.Conflict, "feed-under-way", "%s is being read already", name).
			WithHint("crelvo advisory feed list shows how far it is.")
	}
	if err != nil {
		return f, err
	}
	s.Go(func(ctx context.Context) { s.readFeed(record.Patiently(ctx), claimed) })
	return claimed, nil
}

// Chores implements act.Busy.
func (s *Safety) Chores() []act.Chore {
	return []act.Chore{{Every: 30 * time.Second, What: "looking whether a feed is to be read", Do: s.due}}
}

// due reads the feeds whose time has come.
func (s *Safety) due(ctx context.Context) error {
	for ctx.Err() == nil {
		f, err := s.DB.ClaimFeed(ctx, "", s.Now(), s.Now().Add(heldFor))
		if errors.Is(err, record.ErrNotFound) {
			return nil
		}
		if err != nil {
			return err
		}
		s.readFeed(ctx, f)
	}
	return nil
}

// readFeed reads what is new in a feed, and notes what became of it.
func (s *Safety) readFeed(ctx context.Context, f record.Feed) {
	done := s.Do("reading the feed " + f.Name)
	defer done()
	r := &reading{s: s, feed: f}
	r.feed.Report, r.feed.Failure, r.feed.EndedAt = record.FeedReport{}, "", nil
	r.feed.State = maps.Clone(f.State)
	r.into = s.importing(access.Caller{Name: "feed " + f.Name}, f.Name, f.ID, &r.feed.Report)
	err := r.all(budget.Afresh(ctx, feedLimits))
	if err == nil {
		err = r.into.flush(ctx)
	}
	now := s.Now()
	r.feed.EndedAt = &now
	if err != nil {
		r.feed.Failure = fault.Of(err).Message
		if ctx.Err() != nil {
			r.feed.Failure = "the service was stopped in the middle of it"
		}
		s.Log.Warn("a feed of advisories could not be read", "feed", f.Name, "error", err)
	}
	last, cancel := context.WithTimeout(context.WithoutCancel(ctx), 10*time.Second)
	defer cancel()
	noted := s.DB.Within(last, func(tx *record.Tx) error {
		if err := tx.NoteFeed(last, r.feed, now); err != nil {
			return err
		}
		change := record.Change{Kind: record.OfFeed}
		if r.feed.Report.Added+r.feed.Report.Changed == 0 {
			return tx.Tell(last, change)
		}
		event := s.Event(access.Caller{Name: "feed " + f.Name}, record.EventAdvisoriesImported)
		event.Subject, event.Detail = f.Name, counted(r.feed.Report)
		return tx.Append(last, event, change)
	})
	if noted != nil {
		s.Log.Error("what became of a feed could not be noted", "feed", f.Name, "error", noted)
	}
}

// note notes how far a run is, now and then.
func (r *reading) note(ctx context.Context) error {
	if now := r.s.Now(); now.Sub(r.noted) >= noteEach {
		r.noted = now
		return r.s.DB.Within(ctx, func(tx *record.Tx) error { return tx.NoteFeed(ctx, r.feed, now.Add(heldFor)) })
	}
	return nil
}

// reading is a feed that is being read.
type reading struct {
	s     *Safety
	feed  record.Feed
	into  *importing
	noted time.Time

	client *http.Client
}

// all reads what is new.
func (r *reading) all(ctx context.Context) error {
	if strings.HasPrefix(r.feed.Location, "http://") || strings.HasPrefix(r.feed.Location, "https://") {
		return r.address(ctx)
	}
	stat, err := os.Stat(r.feed.Location)
	if err != nil {
		return failed("it cannot be read: %v", err)
	}
	if stat.IsDir() {
		return r.folder(ctx, r.feed.Location)
	}
	mark := fmt.Sprintf("%d %s", stat.Size(), stat.ModTime().UTC().Format(time.RFC3339Nano))
	if r.feed.State[whole].Mark == mark {
		return nil
	}
	if err := r.archiveAt(ctx, r.feed.Location); err != nil {
		return err
	}
	if err := r.into.flush(ctx); err != nil {
		return err
	}
	r.feed.State[whole] = record.FeedPart{Mark: mark}
	return nil
}

// whole is the name of what has no parts.
const whole = "whole"
