package rights

import (
	"context"
	"errors"

	"crelvo/internal/core/access"
	"crelvo/internal/core/fault"
	"crelvo/internal/record"
)

// Still is who did something a while ago, as they may do things now: they may have been blocked, or their
// token revoked, or a role taken away. token is "" for what was done without one.
func (s *Rights) Still(ctx context.Context, name, token string) (access.Caller, error) {
	p, err := s.DB.Principal(ctx, name)
	if errors.Is(err, record.ErrNotFound) || err == nil && p.BlockedAt != nil {
		return access.Caller{}, fault.New(fault.Unknown, "blocked", "%s is not let in any more", name)
	}
	if err != nil || token == "" {
		return CallerOf(p), err
	}
	t, err := s.DB.TokenNamed(ctx, p.ID, token)
	if errors.Is(err, record.ErrNotFound) {
		return access.Caller{}, fault.New(fault.Unknown, "token-revoked", "the token %q of %s was revoked meanwhile", token,
			name).WithHint("Make a new one with crelvo token new.")
	}
	if err == nil && !s.Now().Before(t.ExpiresAt) {
		err = Ended(name, token)
	}
	if err != nil {
		return access.Caller{}, err
	}
	return CallerWith(p, t)
}

// Ended is that a token ended while it was used.
func Ended(name, token string) *fault.Error {
	return fault.New(fault.Unknown, "token-ended", "the token %q of %s ended meanwhile", token, name).
		WithHint("Make a new one with crelvo token new.")
}
