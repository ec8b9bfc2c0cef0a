// Package vetting is about what awaits a person's decision: who wants it, what is known of it, and
// what it needs in turn.
package vetting

import (
	"context"
	"errors"
	"strings"
	"time"

	lru "github.com/hashicorp/golang-lru/v2"

	"crelvo/internal/core/access"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/purl"
	"crelvo/internal/record"
	"crelvo/internal/service/act"
	"crelvo/internal/service/directory"
	"crelvo/internal/service/mirrors"
	"crelvo/internal/service/resolving"
	"crelvo/internal/service/safety"
)

// Vetting keeps the queue. It is safe for use by several at once.
type Vetting struct {
	*act.Act
	act.Underway
	directory *directory.Directory
	resolving *resolving.Resolving
	safety    *safety.Safety
	mirrors   *mirrors.Mirrors

	looking chan struct{} // has one for each archive that is looked into

	noted *lru.Cache[wish, time.Time] // when it was noted last that somebody wants something
}

// wish is that somebody wants a version.
type wish struct {
	repositoryID int64
	purl, who    string
}

// noteEvery is how often it is noted that the same person wants the same.
const noteEvery = time.Minute

// New makes the room.
func New(
	a *act.Act, directory *directory.Directory, resolving *resolving.Resolving, safety *safety.Safety,
	mirrors *mirrors.Mirrors,
) *Vetting {
	noted, err := lru.New[wish, time.Time](10_000)
	if err != nil {
		panic(err) // the size is a constant
	}
	return &Vetting{Act: a, directory: directory, resolving: resolving, safety: safety, mirrors: mirrors, noted: noted,
		looking: make(chan struct{}, looksAtOnce)}
}

// Purge forgets what may be out of date.
func (s *Vetting) Purge() { s.noted.Purge() }

// Wanted notes that somebody was refused something that awaits a decision, if it was for that, and
// gives what they are told. What nobody signed in for is not put before anybody, since anybody could
// fill the queue.
func (s *Vetting) Wanted(ctx context.Context, caller access.Caller, f *fault.Error) *fault.Error {
	refusal := (*safety.Refusal)(nil)
	if f == nil || !errors.As(f, &refusal) || !refusal.Awaits {
		return f
	}
	told, who := *f, s.directory.WhoManages(refusal.Repository)
	if caller.Anonymous() {
		told.Hint = "Sign in, and it is put before " + who + "."
		return &told
	}
	w := wish{refusal.Repository.ID, refusal.PURL.String(), caller.Name}
	now := s.Now()
	told.Hint = "It was put before " + who + ". " + safety.HowToAsk(refusal.Repository, refusal.PURL)
	if last, ok := s.noted.Get(w); ok && now.Sub(last) < noteEvery {
		return &told
	}
	if err := s.note(ctx, caller, refusal.Repository, refusal.PURL, ""); err != nil {
		s.Log.Error("noting what awaits a decision failed", "package", w.purl, "error", err)
		return f
	}
	s.noted.Add(w, now)
	s.lookFor(refusal.Repository, refusal.PURL)
	return &told
}

// note puts a request on record.
func (s *Vetting) note(
	ctx context.Context, caller access.Caller, r catalog.Repository, p purl.PURL, purpose string,
) error {
	return s.DB.Within(ctx, func(tx *record.Tx) error {
		added, err := tx.AskForVetting(ctx, r.Key(p.Ecosystem, p.Namespace, p.Name), p.Version, caller.Name, purpose, s.Now())
		if err != nil || !added {
			return err
		}
		event := s.Event(caller, record.EventVettingWanted)
		event.Repository, event.Subject = r.Name, p.Typed()
		if purpose != "" {
			event.Detail = map[string]string{"for": purpose}
		}
		return tx.Append(ctx, event, record.Change{Kind: record.OfVetting, RepositoryID: r.ID, Repository: r.Name})
	})
}

// mostPurpose is how many letters may say what something is for.
const mostPurpose = 500

// Ask puts a version before those who decide about a repository, and tells what is known of it.
func (s *Vetting) Ask(
	ctx context.Context, caller access.Caller, name string, p purl.PURL, purpose string,
) (Assessment, error) {
	if caller.Anonymous() {
		return Assessment{}, s.directory.Allow(caller, access.SignedIn, access.Object{})
	}
	purpose = strings.TrimSpace(purpose)
	if len(purpose) > mostPurpose {
		return Assessment{}, act.Invalid("too-long", "what it is for has more than %d letters", mostPurpose)
	}
	a, err := s.Assess(ctx, caller, name, p)
	if err != nil {
		return a, err
	}
	if !a.Verdict.Refused {
		return a, fault.New(fault.Conflict, "let-in", "%s lets %s in already", a.Repository.At(), p.Typed()).
			WithHint("Nothing needs to be decided.")
	}
	return a, s.note(ctx, caller, a.Repository, a.PURL, purpose)
}
