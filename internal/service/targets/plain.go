package targets

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"strings"
	"sync"
	"time"

	"crelvo/internal/core/plain"
	"crelvo/internal/core/text"
	"crelvo/internal/ecosystem"
	"crelvo/internal/record"
	"crelvo/internal/service/act"
	"crelvo/internal/service/secret"
	"crelvo/internal/upstream"
	"crelvo/internal/webspace"
)

const (
	// plainLease is for how long a node writes to a tree until it has to say that it goes on.
	plainLease = time.Minute
	// longestPause is how long it takes at most until a tree is tried again.
	longestPause = 15 * time.Minute
	// longestSaid is how many letters are kept of what went wrong.
	longestSaid = 1000
)

// Reader wraps files while they are read.
type Reader func(ecosystem.SeekableFile) ecosystem.SeekableFile

// SendAll sends versions to a target, and gives why those were not sent that were not. A plain tree is written to
// for all of them together.
func (s *Targets) SendAll(
	ctx context.Context, target string, versionIDs []int64, reading Reader,
) (failed map[int64]error) {
	failed = map[int64]error{}
	all := func(ids []int64, err error) map[int64]error {
		for _, id := range ids {
			failed[id] = err
		}
		return failed
	}
	to, err := s.target(ctx, target)
	if err != nil {
		return all(versionIDs, err)
	}
	if !to.Plain {
		for _, id := range versionIDs {
			if err := s.Send(ctx, target, id, reading); err != nil {
				failed[id] = err
			}
		}
		return failed
	}
	var asked []record.PlainPackage
	if err := s.DB.Within(ctx, func(tx *record.Tx) (err error) {
		asked, err = tx.AddToPlain(ctx, target, versionIDs)
		return err
	}); err != nil {
		return all(versionIDs, err)
	}
	err = s.write(ctx, to, reading)
	if err == nil {
		return failed
	}
	// What went wrong may have nothing to do with them.
	waiting, found := s.DB.DueAmong(ctx, target, asked, versionIDs)
	if found != nil {
		return all(versionIDs, err)
	}
	return all(waiting, err)
}

// write brings a tree up to date.
func (s *Targets) write(ctx context.Context, to record.Target, reading Reader) error {
	turn := s.turnOf(to.Name)
	select {
	case turn <- struct{}{}:
		defer func() { <-turn }()
	case <-ctx.Done():
		return ctx.Err()
	}
	if due, err := s.DB.DuePlain(ctx, to.Name, [2]string{}, 1); err != nil || len(due) == 0 {
		return err // who had the turn before wrote it
	}
	worker := strings.ToLower(rand.Text())
	claim := func(ctx context.Context) (bool, error) {
		return s.DB.ClaimPlain(ctx, to.Name, worker, s.Now(), s.Now().Add(plainLease))
	}
	if ok, err := claim(ctx); err != nil || !ok {
		if err == nil {
			err = &ecosystem.Rejection{Said: "another node is writing to " + to.Name}
		}
		return err
	}
	done := s.Do("writing to " + to.Name)
	defer done()
	writing, stop := context.WithCancelCause(ctx)
	var signs sync.WaitGroup
	signs.Go(func() {
		s.Every(writing, act.Chore{Every: plainLease / 3, What: "saying that a tree is being written", Always: true,
			Do: func(ctx context.Context) error {
				ok, err := claim(ctx)
				if err == nil && !ok {
					stop(errors.New("another node writes to it now"))
				}
				return err
			}})
	})
	err := s.writeDue(writing, to, reading)
	if err != nil && ctx.Err() == nil && writing.Err() != nil {
		err = context.Cause(writing)
	}
	stop(nil)
	signs.Wait()
	failure, next := "", s.Now()
	if err != nil {
		err = inWords(to.Name, err)
		failure = text.Clean(err.Error(), false, longestSaid)
		next = next.Add(min(longestPause, 5*time.Second<<min(to.Attempts, 10)))
	}
	noting, cancel := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
	defer cancel()
	return errors.Join(err, s.DB.LeavePlain(noting, to.Name, worker, failure, s.Now(), next), s.tell(noting, to.Name))
}

func (s *Targets) tell(ctx context.Context, name string) error {
	return s.DB.Within(ctx, func(tx *record.Tx) error {
		return tx.Tell(ctx, record.Change{Kind: record.OfTarget, Name: name})
	})
}

// writeDue writes what is due, and marks it done.
func (s *Targets) writeDue(ctx context.Context, to record.Target, reading Reader) (err error) {
	t, err := s.open(ctx, to)
	if err != nil {
		return err
	}
	t.reading = reading
	defer func() { err = errors.Join(err, t.close()) }()
	if err := t.mark(ctx, false); err != nil {
		return err
	}
	var after [2]string
	for {
		some, err := s.DB.DuePlain(ctx, to.Name, after, packagesAtOnce)
		if err != nil {
			return err
		}
		if len(some) == 0 {
			break
		}
		last := some[len(some)-1]
		after = [2]string{last.Namespace, last.Name}
		if err := t.packages(ctx, some); err != nil {
			return err
		}
	}
	if err := t.roots(ctx); err != nil {
		return err
	}
	if err := t.removeAll(ctx); err != nil {
		return err
	}
	err = s.DB.Within(ctx, func(tx *record.Tx) error { return tx.DonePlain(ctx, to.Name, t.done) })
	return errors.Join(append([]error{err}, t.failed...)...)
}

// open opens a tree, without writing to it.
func (s *Targets) open(ctx context.Context, to record.Target) (*tree, error) {
	e, ok := s.Ecosystem(to.Ecosystem).(ecosystem.Plain)
	if !ok {
		return nil, &ecosystem.Rejection{Said: "there are no plain trees of " + to.Ecosystem, Final: true}
	}
	as, err := s.safe.OpenSignIn(to.Secret, secret.Target)
	if err != nil {
		return nil, err
	}
	through := upstream.Transport(webspace.Host(to.URL), to.Private)
	space, err := webspace.Open(ctx, webspace.Options{Address: to.URL, User: as.User, Secret: as.Secret,
		HostKey: to.HostKey, Client: upstream.Unled(through), Dial: through.DialContext,
		Agent: "crelvo/" + s.Settings.Version})
	if err != nil {
		return nil, err
	}
	return &tree{s: s, Target: to, speaks: e, space: space, through: through}, nil
}

// close ends all connections to a tree.
func (t *tree) close() error {
	err := t.space.Close()
	t.through.CloseIdleConnections()
	return err
}

// marker is what stands in a tree, by which it is known whose it is.
type marker struct {
	Crelvo    string `json:"crelvo"` // by its database
	Target    string `json:"target"`
	Ecosystem string `json:"ecosystem"`
	About     string `json:"about"`
}

// mark makes sure that a tree is nobody else's; anew writes its marker even if it is there, as a trial.
func (t *tree) mark(ctx context.Context, anew bool) error {
	house, err := t.s.DB.HouseName(ctx)
	if err != nil {
		return err
	}
	want := marker{Crelvo: house, Target: t.Name, Ecosystem: t.Ecosystem,
		About: "Crelvo writes what is here. Of files that it did not write it knows nothing, and lets them be."}
	raw, err := t.space.Read(ctx, plain.Marker, 10_000)
	switch {
	case errors.Is(err, fs.ErrNotExist):
	case err != nil:
		return err
	default:
		var is marker
		if err := json.Unmarshal(raw, &is); err != nil {
			return fmt.Errorf("%s there cannot be read: is this the right place? If so, remove it", plain.Marker)
		}
		if is.Crelvo != want.Crelvo || is.Target != want.Target || is.Ecosystem != want.Ecosystem {
			whose := "another"
			if is.Crelvo == house {
				whose = "this"
			}
			return fmt.Errorf("the target %s (%s) of %s Crelvo writes there already: choose another place or, if it does "+
				"not any more, remove %s there", is.Target, is.Ecosystem, whose, plain.Marker)
		}
		if !anew {
			return nil
		}
	}
	if raw, err = json.MarshalIndent(want, "", "  "); err != nil {
		return err
	}
	return t.writeBytes(ctx, plain.Marker, "application/json", append(raw, '\n'))
}

// reachPlain tries a tree: that it is there, nobody else's, and can be written to.
func (s *Targets) reachPlain(ctx context.Context, to record.Target) error {
	t, err := s.open(ctx, to)
	if err != nil {
		return err
	}
	return errors.Join(t.mark(ctx, true), t.close())
}

// turnOf has one who writes to a tree here.
func (s *Targets) turnOf(name string) chan struct{} {
	s.mu.Lock()
	defer s.mu.Unlock()
	turn, ok := s.turns[name]
	if !ok {
		turn = make(chan struct{}, 1)
		s.turns[name] = turn
	}
	return turn
}

// plainEcosystems are those of which there are plain trees.
func (s *Targets) plainEcosystems() (names []string) {
	for name, e := range s.Ecosystems {
		if _, ok := e.(ecosystem.Plain); ok {
			names = append(names, name)
		}
	}
	slices.Sort(names)
	return names
}
