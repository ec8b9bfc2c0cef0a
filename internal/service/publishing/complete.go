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
	"crelvo/internal/service/act"
)

// finishTries is how often Finish looks at what is sent to by others meanwhile.
const finishTries = 20

// Finish implements ecosystem.Desk.
func (s *Publishing) Finish(
	ctx context.Context, caller access.Caller, repository catalog.Repository, c ecosystem.Completion,
) error {
	for range finishTries {
		mine, err := s.finishing(ctx, caller, c)
		if err != nil {
			return err
		}
		// What got another file since it was looked at may not be what was looked at.
		if all, err := s.complete(ctx, caller, mine); err != nil || all {
			return err
		}
	}
	return fault.New(fault.Conflict, "still-sent-to", "%s is still being sent to by another of your publications",
		act.PURLOf(c.Key, "")).WithHint("Publish it again when that has ended.")
}

// finishing are the open versions that a completion is about, all of them whole.
func (s *Publishing) finishing(
	ctx context.Context, caller access.Caller, c ecosystem.Completion,
) (mine []record.OpenVersion, err error) {
	open, files, err := s.DB.OpenAtOnce(ctx, c.Key)
	if err != nil {
		return nil, err
	}
	for _, o := range open {
		if o.PublisherID != caller.ID || !c.Version(o.Version, o.Upload) {
			continue
		}
		if o.BrokenFile != "" {
			missing := o.BrokenFile
			if missing == record.Interrupted {
				missing = "a file, while the server was restarted,"
			}
			return nil, fault.New(fault.Conflict, "broken-upload", "%s did not arrive whole, so %s cannot be completed",
				missing, o.Version).
				WithHint("Publish it again.")
		}
		if missing := c.Lacks(files[o.ID]); missing != "" {
			return nil, fault.New(fault.Conflict, "not-whole", "%s lacks %s, which did not come with what was sent last",
				o.Version, missing).
				WithHint("Publish all of it again.")
		}
		mine = append(mine, o)
	}
	return mine, nil
}

// complete makes versions visible, all of them together. all is false if one was left as
// it is: it is completed already, or got a file since it was read.
func (s *Publishing) complete(
	ctx context.Context, caller access.Caller, versions []record.OpenVersion,
) (all bool, err error) {
	if len(versions) == 0 {
		return true, nil
	}
	if len(versions) == 1 {
		v := versions[0]
		event, change := s.aboutVersion(caller, record.EventVersionPublished, v.Repository, v.PackageKey(), v.Version,
			v.Upload)
		done, err := s.DB.CompleteAtOnce(ctx, v.ID, v.Sends, s.Now(), event, change)
		if !record.TryAgain(err) {
			return done, err
		}
	}
	err = s.DB.Within(ctx, func(tx *record.Tx) error {
		all = true
		for _, v := range versions {
			done, err := tx.Complete(ctx, v.ID, v.Sends, s.Now())
			if err != nil {
				return err
			}
			if !done {
				all = false
				continue
			}
			if err := s.announceVersion(ctx, tx, caller, record.EventVersionPublished, v.Repository, v.PackageKey(), v.Version,
				v.Upload); err != nil {
				return err
			}
		}
		return nil
	})
	return all, err
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
		if e == nil || o.BrokenFile != "" || o.Unattended {
			continue
		}
		var details catalog.Details
		if err := json.Unmarshal(o.RawDetails, &details); err != nil {
			return err
		}
		if !e.Whole(details, files[o.ID]) {
			continue
		}
		if _, err := s.complete(ctx, publisherOf(o), []record.OpenVersion{o}); err != nil {
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
