package targets

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"slices"

	"crelvo/internal/core/catalog"
	"crelvo/internal/ecosystem"
	"crelvo/internal/record"
	"crelvo/internal/service/secret"
	"crelvo/internal/upstream"
)

func (s *Targets) senderOf(name string) (ecosystem.Sending, bool) {
	e, ok := s.Ecosystem(name).(ecosystem.Sending)
	return e, ok
}

// Send sends a version to a target, by the protocol of its ecosystem if it is a server. reading wraps its files
// while they are read. An error that is an *ecosystem.Rejection tells whether to try again.
func (s *Targets) Send(ctx context.Context, target string, versionID int64,
	reading Reader) error {
	to, err := s.target(ctx, target)
	if err != nil {
		return err
	}
	if to.Plain {
		return s.SendAll(ctx, target, []int64{versionID}, reading)[versionID]
	}
	e, ok := s.senderOf(to.Ecosystem)
	if !ok {
		return &ecosystem.Rejection{Said: "nothing can be sent on for " + to.Ecosystem, Final: true}
	}
	versions, err := s.DB.VersionsByID(ctx, []int64{versionID})
	if err != nil {
		return err
	}
	if len(versions) == 0 {
		return &ecosystem.Rejection{Said: "the version is not there any more", Final: true}
	}
	files, err := s.DB.FilesOf(ctx, []int64{versionID})
	if err != nil {
		return err
	}
	as, err := s.safe.OpenSignIn(to.Secret, secret.Target)
	if err != nil {
		return err
	}
	labels, err := s.DB.LabelsOf(ctx, []int64{versionID})
	if err != nil {
		return err
	}
	v := versions[0]
	list := files[versionID]
	slices.SortFunc(list, func(a, b catalog.File) int { return int(a.ID - b.ID) })
	return inWords(to.Name, e.Send(ctx, ecosystem.Shipment{Namespace: v.Namespace, Name: v.Name, Version: v.Version,
		Files: list, Labels: labels[versionID], URL: to.URL, User: as.User, Secret: as.Secret,
		Client: upstream.Plain(to.URL, to.Private),
		Agent:  s.Settings.Version, LabelsLater: IsCrelvo(to.URL, to.Ecosystem),
		Open: func(f catalog.File) (ecosystem.SeekableFile, error) {
			file, err := s.store.Open(ctx, f)
			if err != nil {
				return nil, err
			}
			return reading(file), nil
		}}))
}

// inWords makes an error for people of one on the way to a target.
func inWords(name string, err error) error {
	var network *url.Error
	if !errors.As(err, &network) {
		return err
	}
	return errors.New(name + " " + upstream.InWords(err))
}

// target finds a target by its name.
func (s *Targets) target(ctx context.Context, name string) (record.Target, error) {
	targets, err := s.DB.Targets(ctx)
	if err != nil {
		return record.Target{}, err
	}
	i := slices.IndexFunc(targets, func(o record.Target) bool { return o.Name == name })
	if i < 0 {
		return record.Target{}, &ecosystem.Rejection{Said: "there is no target " + name + " any more", Final: true}
	}
	return targets[i], nil
}

// Reach tries a target: that it is there, and lets us in. To a server nothing is published; a tree is written to.
func (s *Targets) Reach(ctx context.Context, name string) error {
	to, err := s.target(ctx, name)
	if err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(ctx, reachedWithin)
	defer cancel()
	if to.Plain {
		return inWords(name, s.reachPlain(ctx, to))
	}
	as, err := s.safe.OpenSignIn(to.Secret, secret.Target)
	if err != nil {
		return err
	}
	status, _, err := ecosystem.Shipment{URL: to.URL, User: as.User, Secret: as.Secret,
		Client: upstream.Plain(to.URL, to.Private), Agent: s.Settings.Version}.Ask(ctx, http.MethodGet, to.URL, nil, 0, nil)
	switch {
	case status == http.StatusUnauthorized || status == http.StatusForbidden:
		return fmt.Errorf("%s does not let us in: %w", name, err)
	case status > 0 && status < http.StatusInternalServerError:
		return nil // it is there, whatever it has at that address
	}
	return inWords(name, err)
}

// TakesMany tells whether versions are better sent to a target together.
func (s *Targets) TakesMany(ctx context.Context, name string) (bool, error) {
	to, err := s.target(ctx, name)
	return to.Plain, err
}
