package targets

import (
	"context"
	"errors"
	"net/url"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"crelvo/internal/core/access"
	"crelvo/internal/core/fault"
	"crelvo/internal/ecosystem"
	"crelvo/internal/record"
	"crelvo/internal/service/act"
	"crelvo/internal/service/keys"
	"crelvo/internal/service/secret"
	"crelvo/internal/upstream"
	"crelvo/internal/webspace"
)

// NewTarget is one to be made, or written anew.
type NewTarget struct {
	Name, Ecosystem, URL, User, Secret string

	// Tree: it is a plain tree, and URL says where it is written.
	Tree bool
	// ReadAt is at which address the tree is read.
	ReadAt string
	// HostKey is that of the machine, for SFTP, by its fingerprint.
	HostKey string
	// Anyway: also if a tree cannot be written to now.
	Anyway bool
}

// View is a target as people look at it.
type View struct {
	record.Target
	State record.PlainState // of a plain tree
}

// Targets lists all targets.
func (s *Targets) Targets(ctx context.Context) ([]View, error) {
	all, err := s.DB.Targets(ctx)
	if err != nil {
		return nil, err
	}
	states, err := s.DB.PlainStates(ctx)
	views := make([]View, len(all))
	for i, t := range all {
		views[i].Target = t
		for _, state := range states {
			if state.Target == t.Name {
				views[i].State = state
			}
		}
	}
	return views, err
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
	d := record.Target{Name: n.Name, Ecosystem: n.Ecosystem, URL: n.URL, ByName: caller.Name, At: s.Now()}
	var err error
	if n.Tree {
		err = s.checkTree(&d, n)
	} else {
		err = s.checkServer(&d)
	}
	if err != nil {
		return err
	}
	d.Private = upstream.LeadsToPrivate(ctx, webspace.Host(d.URL))
	if d.Secret, err = s.safe.SealSignIn(secret.SignIn{User: n.User, Secret: n.Secret}, secret.Target); err != nil {
		return err
	}
	if d.Plain && !n.Anyway {
		if err := s.tryTree(ctx, d); err != nil {
			return err
		}
	}
	return s.DB.Within(ctx, func(tx *record.Tx) error {
		if err := tx.SetTarget(ctx, d); err != nil {
			return err
		}
		event := s.Event(caller, record.EventTargetSet)
		event.Subject = n.Name
		event.Detail = map[string]string{"ecosystem": n.Ecosystem, "address": d.URL, "user": n.User}
		if d.Plain {
			event.Detail["read at"] = d.ReadAt
		}
		return tx.Append(ctx, event, record.Change{Kind: record.OfTarget, Name: n.Name})
	})
}

// checkServer checks a target that is a server.
func (s *Targets) checkServer(d *record.Target) error {
	if _, ok := s.senderOf(d.Ecosystem); !ok {
		return act.Invalid("no-sender", "nothing can be sent on for the ecosystem %q", d.Ecosystem)
	}
	if !isWeb(d.URL) {
		return act.Invalid("bad-address", "%.200q is no web address of a repository without credentials", d.URL)
	}
	d.URL = strings.TrimSuffix(d.URL, "/") + "/"
	return nil
}

// isWeb tells whether an address is one of the web, with nothing behind its path.
func isWeb(address string) bool {
	u, err := url.Parse(address)
	return err == nil && (u.Scheme == "http" || u.Scheme == "https") && u.Host != "" && u.User == nil &&
		u.RawQuery == "" && u.Fragment == ""
}

// checkTree checks a target that is a plain tree.
func (s *Targets) checkTree(d *record.Target, n NewTarget) error {
	d.Plain, d.HostKey = true, n.HostKey
	e, ok := s.Ecosystem(d.Ecosystem).(ecosystem.Plain)
	if !ok {
		return act.Invalid("no-plain-trees", "there are no plain trees of the ecosystem %q", d.Ecosystem).
			WithHint("There are of %s.", strings.Join(s.plainEcosystems(), ", "))
	}
	kind, err := webspace.Kind(d.URL)
	if err != nil {
		return act.Invalid("bad-place", "%.200q is no place for a tree: %v", d.URL, err)
	}
	switch {
	case kind == webspace.PUT:
		d.URL = strings.TrimSuffix(d.URL, "/") + "/"
	case kind == webspace.Folder:
		d.URL = filepath.Clean(d.URL)
		if own := s.Settings.Folder; within(own, d.URL) || within(d.URL, own) {
			return act.Invalid("bad-place", "%s is where the server keeps its own data", d.URL)
		}
	case (kind == webspace.SFTP || kind == webspace.FTP) && n.User == "":
		return act.Invalid("no-user", "somebody must sign in by %s", strings.ToUpper(kind)).
			WithHint("Say who, and give a password or, for SFTP, a private key.")
	}
	switch {
	case n.ReadAt != "" && !isWeb(n.ReadAt):
		return act.Invalid("bad-address", "%.200q is no web address at which the tree is read", n.ReadAt)
	case n.ReadAt != "":
		d.ReadAt = strings.TrimSuffix(n.ReadAt, "/") + "/"
	case e.NamesBase():
		return act.Invalid("no-address", "documents of %s name whole addresses", s.Ecosystem(d.Ecosystem).Title()).
			WithHint("Say at which address the tree will be read: --read-at https://packages.skerry.example/npm/")
	}
	return nil
}

// within tells whether a path is another one, or below it.
func within(folder, path string) bool {
	if folder == "" {
		return false
	}
	rest, err := filepath.Rel(folder, path)
	return err == nil && filepath.IsLocal(rest)
}

// tryTree tries whether a tree can be written to.
func (s *Targets) tryTree(ctx context.Context, d record.Target) error {
	limited, cancel := context.WithTimeout(ctx, 30*time.Second)
	defer cancel()
	err := s.reachPlain(limited, d)
	if err == nil {
		return nil
	}
	f := fault.New(fault.Conflict, "not-reached", "nothing could be written there: %v", inWords(d.Name, err)).
		WithHint("Mend it, or save it anyway (--anyway).")
	if key := (*webspace.OtherHostKey)(nil); errors.As(err, &key) {
		f = fault.New(fault.Conflict, "host-key", "%v", key).
			WithHint("If that is the key of the machine, give it: --host-key %s", key.Shows)
	}
	return f
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
		return tx.Append(ctx, event, record.Change{Kind: record.OfTarget, Name: name})
	})
}
