package rights

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"errors"
	"strconv"
	"strings"

	"crelvo/internal/core/access"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/record"
	"crelvo/internal/service/act"
)

// NewPrincipal is a user or robot to be made.
type NewPrincipal struct {
	Name        string
	Robot       bool
	Description string
	Password    string // "" for none: only tokens get in
	// Given: the password was not chosen by the user, who is to change it.
	Given  bool
	Grants []access.Grant // their holders need not be given
}

// Bootstrapper is who makes the first users: the program itself.
var Bootstrapper = access.Caller{Name: "crelvo", Grants: []access.Grant{{Role: access.Admin, Repositories: "*"}}}

// AddPrincipal makes a user or robot.
func (s *Rights) AddPrincipal(ctx context.Context, by access.Caller, n NewPrincipal) error {
	if n.Robot && len(n.Grants) == 0 {
		// An admin of a pattern makes robots whose names fit it.
		if err := s.directory.Allow(by, access.Manage, access.Of(catalog.Repository{Name: n.Name})); err != nil {
			return err
		}
	} else if err := s.directory.Allow(by, access.Manage, act.Everything); err != nil {
		return err
	}
	if err := act.CheckName("user", n.Name); err != nil {
		return err
	}
	if n.Name == access.Everybody || n.Name == access.Anonymous {
		return act.Invalid("reserved", "%q stands for everybody, so nobody can be called that", n.Name)
	}
	p := record.Principal{Name: n.Name, Kind: "user", Description: n.Description, PasswordGiven: n.Given &&
		n.Password != "", CreatedAt: s.Now()}
	if n.Robot {
		p.Kind = "robot"
	}
	if n.Password != "" {
		if err := checkPassword(n.Password); err != nil {
			return err
		}
		p.PasswordHash = hashPassword(n.Password)
	}
	return s.changeAccess(ctx, func(tx *record.Tx) error {
		id, ok, err := tx.AddPrincipal(ctx, p)
		if err != nil {
			return err
		}
		if !ok {
			return fault.New(fault.Conflict, "name-taken", "there is a user or robot %q already", n.Name)
		}
		event := s.Event(by, record.Action(p.Kind+" made"))
		event.Subject = n.Name
		var given []string
		for _, g := range n.Grants {
			if _, _, err := tx.AddGrant(ctx, id, 0, record.StoredGrant{Grant: g, By: by.Name, At: s.Now()}); err != nil {
				return err
			}
			given = append(given, g.String())
		}
		event.Detail = map[string]string{"grants": strings.Join(given, ", ")}
		return tx.Append(ctx, event)
	})
}

// GeneratedPassword makes a password for somebody who is to change it.
func GeneratedPassword() string { return rand.Text() }

// Principals lists users and robots; kind may be "" for both. Only an admin of
// something sees them.
func (s *Rights) Principals(ctx context.Context, caller access.Caller, kind string) ([]record.PrincipalLine, error) {
	if err := s.MustBeAdmin(caller); err != nil {
		return nil, err
	}
	return s.DB.Principals(ctx, kind, s.Now())
}

func (s *Rights) principal(ctx context.Context, caller access.Caller, name string) (record.Principal, error) {
	if err := s.directory.Allow(caller, access.Manage, act.Everything); err != nil {
		return record.Principal{}, err
	}
	p, err := s.DB.Principal(ctx, name)
	if errors.Is(err, record.ErrNotFound) {
		err = fault.New(fault.NotFound, "no-such-user", "there is no user or robot %q", name).
			WithHint("crelvo user list shows them.")
	}
	return p, err
}

// PrincipalChange is what is to be different; nil fields stay as they are.
type PrincipalChange struct {
	Description *string
	Blocked     *bool
}

// EditPrincipal changes a user or robot. Who is blocked does not get in, and its
// sessions end.
func (s *Rights) EditPrincipal(ctx context.Context, caller access.Caller, name string, change PrincipalChange) error {
	p, err := s.principal(ctx, caller, name)
	if err != nil {
		return err
	}
	before := p
	act.Set(&p.Description, change.Description)
	if change.Blocked != nil && *change.Blocked != (p.BlockedAt != nil) {
		p.BlockedAt = nil
		if *change.Blocked {
			now := s.Now()
			p.BlockedAt = &now
		}
	}
	return s.changeAccess(ctx, func(tx *record.Tx) error {
		if err := tx.SetPrincipal(ctx, p); err != nil {
			return err
		}
		event := s.Event(caller, record.Action(p.Kind+" changed"))
		event.Subject, event.Detail = name, map[string]string{}
		if before.Description != p.Description {
			event.Detail["description"] = before.Description + " → " + p.Description
		}
		if (before.BlockedAt == nil) != (p.BlockedAt == nil) {
			event.Action = p.Kind + " let in again"
			if p.BlockedAt != nil {
				event.Action = p.Kind + " blocked"
				if _, err := tx.EndSessions(ctx, p.ID, [32]byte{}); err != nil {
					return err
				}
			}
		}
		if err := s.adminRemains(ctx, tx); err != nil {
			return err
		}
		return tx.Append(ctx, event)
	})
}

// RemovePrincipal removes a user or robot with tokens, sessions and grants. What
// it published stays.
func (s *Rights) RemovePrincipal(ctx context.Context, caller access.Caller, name string) error {
	p, err := s.principal(ctx, caller, name)
	if err != nil {
		return err
	}
	return s.changeAccess(ctx, func(tx *record.Tx) error {
		if err := tx.RemovePrincipal(ctx, p.ID); err != nil {
			return err
		}
		if err := s.adminRemains(ctx, tx); err != nil {
			return err
		}
		event := s.Event(caller, record.Action(p.Kind+" removed"))
		event.Subject = name
		var had []string
		for _, g := range p.Grants {
			if g.Holder == name {
				had = append(had, g.String())
			}
		}
		event.Detail = map[string]string{"grants before": strings.Join(had, ", ")}
		return tx.Append(ctx, event)
	})
}

// SignOutEverywhere ends all sessions of somebody, and with tokens also all
// tokens; it tells how many of each. One may do so oneself, others only an admin.
func (s *Rights) SignOutEverywhere(
	ctx context.Context, caller access.Caller, name string, tokens bool,
) (ended, revoked int64, err error) {
	p, err := s.tokenOwner(ctx, caller, name)
	if err != nil {
		return 0, 0, err
	}
	err = s.changeAccess(ctx, func(tx *record.Tx) error {
		var err error
		if ended, err = tx.EndSessions(ctx, p.ID, [32]byte{}); err != nil {
			return err
		}
		if tokens {
			if revoked, err = tx.RevokeTokens(ctx, p.ID, s.Now()); err != nil {
				return err
			}
		}
		event := s.Event(caller, record.EventSignedOutEverywhere)
		event.Subject = p.Name
		event.Detail = map[string]string{"sessions": strconv.FormatInt(ended, 10), "tokens": strconv.FormatInt(revoked, 10)}
		return tx.Append(ctx, event)
	})
	return ended, revoked, err
}

// SetPassword changes the password of the caller, who has to know the old one,
// and ends its other sessions; session is the secret of the one that stays. With
// a name, an admin gives somebody else a password, which is to be changed.
func (s *Rights) SetPassword(ctx context.Context, caller access.Caller, name, old, password, session string) error {
	own := name == "" || name == caller.Name
	var p record.Principal
	var err error
	if own {
		if err := s.directory.Allow(caller, access.SignedIn, act.Everything); err != nil {
			return err
		}
		if caller.Limited() {
			return fault.New(fault.Denied, "token-too-narrow", "the token %q is limited, so it cannot change a password",
				caller.Token)
		}
		if p, err = s.DB.Principal(ctx, caller.Name); err != nil {
			return err
		}
		if _, err := s.byPassword(ctx, caller.Name, old,
			Origin{Address: caller.Address, UserAgent: caller.UserAgent}); err != nil {
			if fault.Of(err).Code == wrongPassword.Code {
				return fault.New(fault.Denied, wrongPassword.Code, "the password so far is another one").
					WithHint("An admin can give a new one.")
			}
			return err
		}
	} else if p, err = s.principal(ctx, caller, name); err != nil {
		return err
	}
	if err := checkPassword(password); err != nil {
		return err
	}
	if own && password == old {
		return act.Invalid("same-password", "that is the password so far").WithHint("Choose another one.")
	}
	hash := hashPassword(password)
	return s.changeAccess(ctx, func(tx *record.Tx) error {
		if err := tx.SetPassword(ctx, p.ID, hash, !own); err != nil {
			return err
		}
		if _, err := tx.EndSessions(ctx, p.ID, sha256.Sum256([]byte(session))); err != nil {
			return err
		}
		event := s.Event(caller, record.EventPasswordChanged)
		event.Subject = p.Name
		return tx.Append(ctx, event)
	})
}

// Standing tells whether somebody else chose the password of the caller, and which
// teams it is in.
func (s *Rights) Standing(ctx context.Context, caller access.Caller) (passwordGiven bool, teams []string, err error) {
	p, err := s.DB.Principal(ctx, caller.Name)
	if err != nil {
		return false, nil, err
	}
	in, err := s.DB.Teams(ctx, caller.ID)
	for _, t := range in {
		teams = append(teams, t.Name)
	}
	return p.PasswordGiven, teams, err
}

// FirstSteps tells an admin which of the first steps with a new service are done.
func (s *Rights) FirstSteps(ctx context.Context, caller access.Caller) (record.Steps, error) {
	if err := s.directory.Allow(caller, access.Manage, act.Everything); err != nil {
		return record.Steps{}, err
	}
	return s.DB.Steps(ctx)
}

func checkPassword(password string) error {
	if len(password) < minPassword {
		return act.Invalid("weak-password", "a password has at least %d characters", minPassword).
			WithHint("A few words are easier to remember than signs.")
	}
	if len(password) > 1000 {
		return act.Invalid("long-password", "a password has at most 1000 bytes")
	}
	return nil
}
