package targets

import (
	"context"
	"net/url"
	"slices"
	"strings"

	"crelvo/internal/core/access"
	"crelvo/internal/core/fault"
	"crelvo/internal/record"
	"crelvo/internal/service/act"
	"crelvo/internal/service/keys"
	"crelvo/internal/service/secret"
	"crelvo/internal/upstream"
)

// NewTarget is a repository on another server that promotions go on to.
type NewTarget struct {
	Name, Ecosystem, URL, User, Secret string
}

// Targets lists all targets, without their secrets.
func (s *Targets) Targets(ctx context.Context) ([]record.Target, error) {
	return s.DB.Targets(ctx)
}

// SetTarget adds a target, or writes it anew.
func (s *Targets) SetTarget(ctx context.Context, caller access.Caller, n NewTarget) error {
	if err := s.directory.Allow(caller, access.Manage, act.Everything); err != nil {
		return err
	}
	if !keys.KeyName.MatchString(n.Name) {
		return act.Invalid("bad-name", "%.80q cannot be the name of a target", n.Name).
			WithHint("Use small letters, digits, points and dashes.")
	}
	if _, ok := s.senderOf(n.Ecosystem); !ok {
		return act.Invalid("no-sender", "nothing can be sent on for the ecosystem %q", n.Ecosystem)
	}
	u, err := url.Parse(n.URL)
	if err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "" || u.User != nil || u.RawQuery != "" {
		return act.Invalid("bad-address", "%.200q is no web address of a repository without credentials", n.URL)
	}
	d := record.Target{Name: n.Name, Ecosystem: n.Ecosystem, URL: strings.TrimSuffix(n.URL, "/") + "/",
		ByName: caller.Name, At: s.Now()}
	d.Private = upstream.LeadsToPrivate(ctx, d.URL)
	if d.Secret, err = s.safe.SealSignIn(secret.SignIn{User: n.User, Secret: n.Secret}, secret.Target); err != nil {
		return err
	}
	return s.DB.Within(ctx, func(tx *record.Tx) error {
		if err := tx.SetTarget(ctx, d); err != nil {
			return err
		}
		event := s.Event(caller, record.EventTargetSet)
		event.Subject, event.Detail = n.Name, map[string]string{"ecosystem": n.Ecosystem, "address": d.URL, "user": n.User}
		return tx.Append(ctx, event)
	})
}

// RemoveTarget removes a target that no track names.
func (s *Targets) RemoveTarget(ctx context.Context, caller access.Caller, name string) error {
	if err := s.directory.Allow(caller, access.Manage, act.Everything); err != nil {
		return err
	}
	return s.DB.Within(ctx, func(tx *record.Tx) error {
		tracks, err := tx.Tracks(ctx)
		if err != nil {
			return err
		}
		for _, t := range tracks {
			if slices.ContainsFunc(t.Stages, func(stage record.Stage) bool { return slices.Contains(stage.Onward, name) }) {
				return fault.New(fault.Conflict, "target-in-use", "the track %s goes on to %s", t.Name, name)
			}
		}
		relays, err := tx.Relays(ctx)
		if err != nil {
			return err
		}
		for _, r := range relays {
			if r.Target == name {
				return fault.New(fault.Conflict, "target-in-use", "the relay %s sends to %s", r.Name, name)
			}
		}
		done, err := tx.RemoveTarget(ctx, name)
		if err == nil && !done {
			err = fault.New(fault.NotFound, "no-such-target", "there is no target %s", name)
		}
		if err != nil {
			return err
		}
		event := s.Event(caller, record.EventTargetRemoved)
		event.Subject = name
		return tx.Append(ctx, event)
	})
}
