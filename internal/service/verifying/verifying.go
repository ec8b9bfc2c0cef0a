// Package verifying reads every stored byte now and then, compares it with what it should be,
// and mends what can be mended.
package verifying

import (
	"context"
	"errors"
	"fmt"
	"io"
	"time"

	"crelvo/internal/core/access"
	"crelvo/internal/record"
	"crelvo/internal/service/act"
	"crelvo/internal/service/directory"
	"crelvo/internal/service/mirrors"
	"crelvo/internal/service/store"
)

const (
	// workEvery is how often it is looked for a run that is under way.
	workEvery = 2 * time.Second
	// holdFor is how long a node that works on a run is let do so without a word of it.
	holdFor = 3 * time.Minute
	// batch is how many files are read between two words of it, and batchTime, how long it
	// takes at most.
	batch     = 200
	batchTime = 5 * time.Second
	// shown is how many runs, and how much damage, is shown.
	shown = 200
)

// Verifying reads what is stored. It is safe for use by several at once.
type Verifying struct {
	*act.Act
	directory *directory.Directory
	store     *store.Store
	mirrors   *mirrors.Mirrors
}

// New makes the room.
func New(a *act.Act, directory *directory.Directory, store *store.Store, mirrors *mirrors.Mirrors) *Verifying {
	return &Verifying{Act: a, directory: directory, store: store, mirrors: mirrors}
}

// Chores implements act.Busy.
func (s *Verifying) Chores() []act.Chore {
	return []act.Chore{
		{Every: workEvery, What: "verifying stored bytes", Do: s.work},
		{Every: time.Hour, What: "looking whether stored bytes are to be verified", Do: s.due},
	}
}

// Begin begins a run, or joins the one that is under way; with repair, what is damaged is
// mended.
func (s *Verifying) Begin(ctx context.Context, caller access.Caller, repair bool) (record.Verification, error) {
	if err := s.directory.Allow(caller, access.Manage, act.Everything); err != nil {
		return record.Verification{}, err
	}
	if err := s.begin(ctx, caller, repair); err != nil {
		return record.Verification{}, err
	}
	all, err := s.DB.Verifications(ctx, 1)
	if err != nil || len(all) == 0 {
		return record.Verification{}, err
	}
	return all[0], nil
}

func (s *Verifying) begin(ctx context.Context, caller access.Caller, repair bool) error {
	ctx = record.Patiently(ctx)
	return s.DB.Within(ctx, func(tx *record.Tx) error {
		done, err := tx.BeginVerification(ctx, caller.Name, s.Now(), repair)
		if err != nil || !done {
			return err
		}
		return tx.Tell(ctx, record.Change{Kind: record.OfStore})
	})
}

// due begins a run by itself when the last one was long ago.
func (s *Verifying) due(ctx context.Context) error {
	if s.Settings.VerifyEvery == 0 {
		return nil
	}
	last, err := s.DB.Verifications(ctx, 1)
	if err != nil {
		return err
	}
	var since time.Time
	if len(last) > 0 {
		since = last[0].BegunAt
	} else {
		stores, err := s.DB.Stores(ctx)
		if err != nil || len(stores) == 0 {
			return err
		}
		since = stores[0].CreatedAt
	}
	if s.Now().Sub(since) < s.Settings.VerifyEvery {
		return nil
	}
	return s.begin(ctx, access.Caller{Name: "the service"}, true)
}

// Runs lists the last runs.
func (s *Verifying) Runs(ctx context.Context, caller access.Caller) ([]record.Verification, error) {
	if err := s.directory.Allow(caller, access.Manage, act.Everything); err != nil {
		return nil, err
	}
	return s.DB.Verifications(ctx, shown)
}

// Damages lists what is damaged, and what was.
func (s *Verifying) Damages(ctx context.Context, caller access.Caller) ([]record.Damage, error) {
	if err := s.directory.Allow(caller, access.Manage, act.Everything); err != nil {
		return nil, err
	}
	return s.DB.Damages(ctx, shown)
}

// work goes on with the run under way, if no other node does.
func (s *Verifying) work(ctx context.Context) error {
	now := time.Now()
	v, err := s.DB.TakeVerification(ctx, now, now.Add(holdFor))
	if errors.Is(err, record.ErrNotFound) {
		return nil
	}
	v.Said = ""
	for err == nil && v.EndedAt == nil && v.Said == "" && ctx.Err() == nil && !s.Draining.Load() {
		v, err = s.some(ctx, v)
		until := time.Now().Add(holdFor)
		if err != nil || v.Said != "" {
			until = time.Now().Add(30 * time.Second) // and then it is tried again
		}
		if noted := s.note(context.WithoutCancel(ctx), v, until); noted != nil {
			return errors.Join(err, noted)
		}
	}
	if err == nil && v.EndedAt == nil && v.Said == "" { // this node ends, or is left alone
		return s.note(context.WithoutCancel(ctx), v, time.Now())
	}
	return err
}

func (s *Verifying) note(ctx context.Context, v record.Verification, until time.Time) error {
	return s.DB.Within(ctx, func(tx *record.Tx) error {
		if err := tx.NoteVerification(ctx, v, until); err != nil {
			return err
		}
		if v.EndedAt == nil {
			return tx.Tell(ctx, record.Change{Kind: record.OfStore})
		}
		event := s.Event(access.Caller{Name: v.By}, record.EventBytesVerified)
		event.Detail = map[string]string{"files": fmt.Sprint(v.Files), "bytes": fmt.Sprint(v.Bytes),
			"damaged": fmt.Sprint(v.Damaged), "mended": fmt.Sprint(v.Mended), "unknown": fmt.Sprint(v.Unknown)}
		return tx.Append(ctx, event, record.Change{Kind: record.OfStore})
	})
}

// some reads some files, and ends the run if there are no more.
func (s *Verifying) some(ctx context.Context, v record.Verification) (record.Verification, error) {
	all, err := s.DB.StoredAfter(ctx, v.Cursor, batch)
	if err != nil {
		return v, err
	}
	begun := time.Now()
	for i, f := range all {
		// All places of one file are read together, so that it need not be known which were.
		if i > 0 && string(f.SHA256) != string(all[i-1].SHA256) {
			v.Cursor = all[i-1].SHA256
			if time.Since(begun) > batchTime {
				return v, nil
			}
		}
		if err := s.one(ctx, f, &v); err != nil {
			if store.IsAway(err) {
				v.Said = "a store does not answer: " + store.Because(err)
				return v, nil
			}
			return v, err
		}
		v.Files, v.Bytes = v.Files+1, v.Bytes+f.Size
	}
	if len(all) > 0 {
		v.Cursor = all[len(all)-1].SHA256
		return v, nil
	}
	if v.Unknown, err = s.store.Unknown(ctx, v.Repair); err != nil {
		return v, err
	}
	now := s.Now()
	v.EndedAt = &now
	return v, nil
}

// one reads one file in one store.
func (s *Verifying) one(ctx context.Context, f record.StoredIn, v *record.Verification) error {
	wrong := s.store.VerifyIn(ctx, f)
	if ctx.Err() != nil {
		return ctx.Err()
	}
	if wrong == nil {
		_, err := s.DB.NoteSound(ctx, f, s.Now())
		return err
	}
	if store.IsAway(wrong) {
		return wrong
	}
	if gone, err := s.gone(ctx, f); gone || err != nil {
		return err
	}
	v.Damaged++
	how := ""
	if v.Repair {
		var err error
		if how, err = s.mend(ctx, f); err != nil {
			return err
		}
	}
	if how != "" {
		v.Mended++
	}
	s.Log.Error("stored bytes are damaged", "sha256", fmt.Sprintf("%x", f.SHA256), "store", f.StoreID, "what",
		store.What(wrong), "mended", how)
	return s.DB.NoteDamage(ctx, f, store.What(wrong), s.Now(), how)
}

// gone tells whether a file was moved or reclaimed while it was read.
func (s *Verifying) gone(ctx context.Context, f record.StoredIn) (bool, error) {
	known, err := s.DB.KnowsIn(ctx, [32]byte(f.SHA256), f.StoreID)
	return !known, err
}

// mend puts right bytes in the place of damaged ones: those of another store, or those that
// an upstream still has. how says which; "" that there are none.
func (s *Verifying) mend(ctx context.Context, f record.StoredIn) (how string, err error) {
	from, err := s.store.MendFromOther(ctx, f)
	if err != nil {
		return "", err
	}
	if from != "" {
		return "from the store " + from, nil
	}
	names, err := s.DB.NamesOf(ctx, [][]byte{f.SHA256})
	if err != nil {
		return "", err
	}
	for _, n := range names {
		if s.mirrors.Of(n.RepositoryID) == nil {
			continue
		}
		err := s.mirrors.Again(ctx, n, func(r io.Reader) error { return s.store.Mend(ctx, f, r) })
		if err == nil {
			return "from the upstream of " + n.Repository, nil
		}
		s.Log.Warn("damaged bytes could not be mended from an upstream", "mirror", n.Repository, "file", n.File, "error", err)
	}
	return "", nil
}

// Concerns are damaged bytes that nobody could mend.
func (s *Verifying) Concerns(ctx context.Context) (found []act.Concern, err error) {
	all, err := s.DB.Damages(ctx, shown)
	n, first := 0, ""
	for _, d := range all {
		if d.MendedAt != nil {
			continue
		}
		if n++; first == "" {
			first = fmt.Sprintf("%x", d.SHA256[:6])
			if len(d.Names) > 0 {
				first = d.Names[0].File + " of " + d.Names[0].Repository
			}
		}
	}
	if n > 0 {
		found = append(found, act.Concern{Level: "wrong",
			What: fmt.Sprintf("%d stored files are damaged, and could not be mended, such as %s", n, first),
			Do: "The page of the stores lists them, with what they belong to. Publish the very same bytes again, or bring " +
				"them back from a backup.", Page: "/stores"})
	}
	return found, err
}
