package publishing

import (
	"context"
	"encoding/json"
	"time"

	"crelvo/internal/core/access"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/purl"
	"crelvo/internal/ecosystem"
	"crelvo/internal/record"
)

// Finish implements ecosystem.Desk.
func (s *Publishing) Finish(
	ctx context.Context, caller access.Caller, repository catalog.Repository, c ecosystem.Completion,
) error {
	open, files, err := s.DB.OpenAtOnce(ctx, c.Key)
	if err != nil {
		return err
	}
	var mine []record.OpenVersion
	for _, o := range open {
		if o.PublisherID != caller.ID || !c.Version(o.Version, o.Upload) {
			continue
		}
		if o.BrokenFile != "" {
			missing := o.BrokenFile
			if missing == record.Interrupted {
				missing = "a file, while the server was restarted,"
			}
			return fault.New(fault.Conflict, "broken-upload", "%s did not arrive whole, so %s cannot be completed", missing,
				o.Version).
				WithHint("Publish it again.")
		}
		if missing := c.Lacks(files[o.ID]); missing != "" {
			return fault.New(fault.Conflict, "not-whole", "%s lacks %s, which did not come with what was sent last", o.Version,
				missing).
				WithHint("Publish all of it again.")
		}
		mine = append(mine, o)
	}
	return s.complete(ctx, caller, mine)
}

// complete makes versions visible, all of them together.
func (s *Publishing) complete(ctx context.Context, caller access.Caller, versions []record.OpenVersion) error {
	if len(versions) == 0 {
		return nil
	}
	if len(versions) == 1 {
		v := versions[0]
		event, change := s.aboutVersion(caller, record.EventVersionPublished, v.Repository, v.PackageKey(), v.Version,
			v.Upload)
		_, err := s.DB.CompleteAtOnce(ctx, v.ID, v.Sends, s.Now(), event, change)
		if !record.TryAgain(err) {
			return err
		}
	}
	return s.DB.Within(ctx, func(tx *record.Tx) error {
		for _, v := range versions {
			done, err := tx.Complete(ctx, v.ID, v.Sends, s.Now())
			if err != nil {
				return err
			}
			if !done {
				continue // somebody else was quicker
			}
			if err := s.announceVersion(ctx, tx, caller, record.EventVersionPublished, v.Repository, v.PackageKey(), v.Version,
				v.Upload); err != nil {
				return err
			}
		}
		return nil
	})
}

func (s *Publishing) announceVersion(ctx context.Context, tx *record.Tx, caller access.Caller,
	action record.Action, repository string,
	key catalog.PackageKey, version, upload string) error {
	event, change := s.aboutVersion(caller, action, repository, key, version, upload)
	return tx.Append(ctx, event, change)
}

// aboutVersion is the event of something that was done with a version, and what the nodes
// are told of it.
func (s *Publishing) aboutVersion(
	caller access.Caller, action record.Action, repository string, key catalog.PackageKey, version, upload string,
) (record.Event, record.Change) {
	event := s.Event(caller, action)
	event.Repository = repository
	event.Subject = purl.PURL{Ecosystem: key.Ecosystem, Namespace: key.Namespace, Name: key.Name,
		Version: version}.String()
	if upload != "" {
		event.Detail = map[string]string{"upload": upload}
	}
	return event, record.Change{Kind: record.OfPackage, RepositoryID: key.RepositoryID, Repository: repository,
		Ecosystem: key.Ecosystem, Namespace: key.Namespace, Name: key.Name, Version: version}
}

// filesOf are the files of versions that are received, by version.
func (s *Publishing) filesOf(ctx context.Context, open []record.OpenVersion) (map[int64][]catalog.File, error) {
	ids := make([]int64, len(open))
	for i, o := range open {
		ids[i] = o.ID
	}
	return s.DB.FilesOf(ctx, ids)
}

// completeQuiet completes versions whose clients went quiet after sending all
// that such a version needs. Each is looked at once: what is sent later touches
// it again.
func (s *Publishing) completeQuiet(ctx context.Context) error {
	quietSince := s.Now().Add(-s.Settings.QuietPeriod)
	open, err := s.DB.OpenBetween(ctx, s.lookedAt, quietSince)
	if err != nil {
		return err
	}
	files, err := s.filesOf(ctx, open)
	if err != nil {
		return err
	}
	for _, o := range open {
		e := s.Ecosystem(o.Ecosystem)
		if e == nil || o.BrokenFile != "" {
			continue
		}
		var details catalog.Details
		if err := json.Unmarshal(o.RawDetails, &details); err != nil {
			return err
		}
		if !e.Whole(details, files[o.ID]) {
			continue
		}
		if err := s.complete(ctx, publisherOf(o), []record.OpenVersion{o}); err != nil {
			return err
		}
	}
	s.lookedAt = quietSince
	return nil
}

// giveUp abandons versions that stayed incomplete for long.
func (s *Publishing) giveUp(ctx context.Context) error {
	open, err := s.DB.OpenBetween(ctx, time.Time{}, s.Now().Add(-abandonAfter))
	if err != nil {
		return err
	}
	for _, o := range open {
		if err := s.abandon(ctx, publisherOf(o), o); err != nil {
			return err
		}
	}
	return nil
}

func publisherOf(o record.OpenVersion) access.Caller {
	return access.Caller{ID: o.PublisherID, Name: o.PublishedBy}
}

func (s *Publishing) abandon(ctx context.Context, publisher access.Caller, o record.OpenVersion) error {
	return s.DB.Within(ctx, func(tx *record.Tx) error {
		done, err := tx.Abandon(ctx, o.ID, s.Now())
		if err != nil || !done {
			return err
		}
		event := s.Event(publisher, record.EventPublicationGivenUp)
		event.Repository = o.Repository
		event.Subject = purl.PURL{Ecosystem: o.Ecosystem, Namespace: o.Namespace, Name: o.Name,
			Version: o.Version}.String()
		event.Detail = map[string]string{"incomplete": o.BrokenFile}
		return tx.Append(ctx, event)
	})
}
