package rights

import (
	"context"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"errors"
	"strings"
	"time"

	"crelvo/internal/core/access"
	"crelvo/internal/core/fault"
	"crelvo/internal/record"
	"crelvo/internal/service/act"
	"crelvo/internal/service/secret"
)

// passPrefix begins every pass; passLength is how long one is good.
const passPrefix, passLength = "pass-", 5 * time.Minute

// passed is what is sealed in a pass: the token that its holder has, or the name of whoever
// gave the right password, and that password's hash; neither for who did not sign in.
type passed struct {
	Token string    `json:"token,omitempty"`
	Name  string    `json:"name,omitempty"`
	Hash  []byte    `json:"hash,omitempty"`
	Ends  time.Time `json:"ends"`
}

// Pass gives, for the name and secret of a package client, what it may show in their place
// for a short time, as the OAuth 2 flow of image registries wants it. It is not kept: it
// carries its holder's own token, sealed, so that it ends with that.
func (s *Rights) Pass(
	ctx context.Context, name, given string, from Origin,
) (pass string, caller access.Caller, ends time.Time, err error) {
	p := passed{Ends: s.Now().Add(passLength)}
	if name == "" && given == "" {
		caller, err = s.Nobody(ctx, from)
	} else {
		caller, err = s.BySecret(ctx, name, given, from)
	}
	if err != nil {
		return "", caller, ends, err
	}
	switch {
	case caller.Token != "":
		p.Token = given
		if caller.TokenEnds.Before(p.Ends) {
			p.Ends = caller.TokenEnds
		}
	case !caller.Anonymous():
		who, err := s.DB.Principal(ctx, caller.Name)
		if err != nil {
			return "", caller, ends, err
		}
		p.Name, p.Hash = who.Name, passwordMark(who)
	}
	plain, err := json.Marshal(p)
	if err != nil {
		return "", caller, ends, err
	}
	sealed, err := s.safe.Seal(plain, secret.Pass)
	return passPrefix + base64.RawURLEncoding.EncodeToString(sealed), caller, p.Ends, err
}

// passwordMark changes with the password of a user.
func passwordMark(p record.Principal) []byte {
	sum := sha256.Sum256([]byte(p.PasswordHash))
	return sum[:8]
}

// IsPass tells whether a Bearer token is a pass.
func IsPass(token string) bool { return strings.HasPrefix(token, passPrefix) }

// ByPass finds the caller who has a pass.
func (s *Rights) ByPass(ctx context.Context, pass string, from Origin) (access.Caller, error) {
	damaged := fault.New(fault.Unknown, "pass-unknown", "this server does not know the pass").
		WithHint("Sign in again.")
	sealed, err := base64.RawURLEncoding.DecodeString(strings.TrimPrefix(pass, passPrefix))
	if err != nil {
		return access.Caller{}, damaged
	}
	plain, err := s.safe.Open(sealed, secret.Pass)
	if err != nil {
		return access.Caller{}, damaged
	}
	var p passed
	if err := json.Unmarshal(plain, &p); err != nil {
		return access.Caller{}, err
	}
	switch {
	case !s.Now().Before(p.Ends):
		return access.Caller{}, fault.New(fault.Unknown, "pass-ended", "the pass has ended").WithHint("Sign in again.")
	case p.Token != "":
		return s.ByToken(ctx, p.Token, from)
	case p.Name == "":
		return s.Nobody(ctx, from)
	}
	key, generation := memoryKey("pass", pass), s.AccessAge()
	if known, ok := s.callers.Get(key); ok && known.Generation == generation {
		c := from.on(known.Value.caller)
		c.Generation = generation
		return c, nil
	}
	who, err := s.DB.Principal(ctx, p.Name)
	switch {
	case errors.Is(err, record.ErrNotFound), err == nil && string(passwordMark(who)) != string(p.Hash):
		return access.Caller{}, damaged
	case err != nil:
		return access.Caller{}, err
	case who.BlockedAt != nil:
		return access.Caller{}, blocked(who)
	}
	c := CallerOf(who)
	c.Generation = generation
	s.callers.Add(key, act.Aged[knownCaller]{Value: knownCaller{caller: c, ends: p.Ends}, Generation: generation})
	return from.on(c), nil
}
