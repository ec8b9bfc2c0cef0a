package repositories

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"crelvo/internal/core/access"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/purl"
	"crelvo/internal/record"
	"crelvo/internal/service/act"
	"crelvo/internal/service/directory"
)

// Claims lists the claims and lifts by pattern.
func (s *Repositories) Claims(ctx context.Context, caller access.Caller) ([]record.Claim, error) {
	if err := s.directory.Allow(caller, access.SignedIn, act.Everything); err != nil {
		return nil, err
	}
	return s.DB.Claims(ctx)
}

// maxPublished is how many published names a list has at most.
const maxPublished = 200

// PublishedNames lists the names that are claimed in a chain because its house
// members have published them, and how many there are.
func (s *Repositories) PublishedNames(
	ctx context.Context, caller access.Caller, name, words string,
) ([]record.PublishedName, int, error) {
	r, err := s.directory.Repository(caller, name, access.Read)
	if err != nil {
		return nil, 0, err
	}
	scope := s.directory.ScopeOf(r)
	scope.Repositories = slices.DeleteFunc(scope.Repositories, func(id int64) bool {
		return !s.directory.Known().ByID[id].Own()
	})
	words = strings.TrimSpace(words)
	found, _, err := act.Figure(ctx, s.Act, fmt.Sprintf("published names %q %s", words, scope.Key()),
		func(ctx context.Context) (f publishedNames, err error) {
			f.names, f.total, err = s.DB.PublishedNames(ctx, scope, words, maxPublished)
			return f, err
		})
	return found.names, found.total, err
}

// publishedNames are some names, and how many there are.
type publishedNames struct {
	names []record.PublishedName
	total int
}

// AddClaim claims the names that a pattern fits: no mirror behind a chain then
// answers for them. A lift of the same pattern ends.
func (s *Repositories) AddClaim(
	ctx context.Context, caller access.Caller, pattern, reason string,
) (record.Claim, error) {
	return s.changeClaim(ctx, caller, pattern, reason,
		func(tx *record.Tx, known *record.Claim, c record.Claim) (record.Action, error) {
			if known != nil && !known.Lifted {
				return "", fault.New(fault.Conflict, "claimed-already", "%s claimed %s already: %s", known.By, pattern,
					known.Reason)
			}
			return record.EventNamesClaimed, tx.SetClaim(ctx, c)
		})
}

// LiftClaim ends a claim. Where there is none with that pattern, names that it
// fits are not ours from now on, although they were published here.
func (s *Repositories) LiftClaim(
	ctx context.Context, caller access.Caller, pattern, reason string,
) (record.Claim, error) {
	return s.changeClaim(ctx, caller, pattern, reason,
		func(tx *record.Tx, known *record.Claim, c record.Claim) (record.Action, error) {
			if known != nil && known.Lifted {
				return "", fault.New(fault.Conflict, "lifted-already", "%s lifted %s already: %s", known.By, pattern, known.Reason)
			}
			if known != nil {
				return record.EventClaimEnded, tx.RemoveClaim(ctx, known.Pattern)
			}
			c.Lifted = true
			return record.EventClaimLifted, tx.SetClaim(ctx, c)
		})
}

func (s *Repositories) changeClaim(ctx context.Context, caller access.Caller, pattern, reason string,
	do func(tx *record.Tx, known *record.Claim, c record.Claim) (action record.Action, err error)) (record.Claim, error) {
	if err := s.directory.Allow(caller, access.Manage, act.Everything); err != nil {
		return record.Claim{}, err
	}
	parsed, err := purl.ParsePattern(strings.TrimSpace(pattern))
	if err != nil {
		return record.Claim{}, err
	}
	if !parsed.Whole() {
		return record.Claim{}, act.Invalid("bad-claim", "a claim is about names, with all their versions").
			WithHint("Leave out the version.")
	}
	reason = strings.TrimSpace(reason)
	if reason == "" {
		return record.Claim{}, act.Invalid("no-reason", "the reason is missing").
			WithHint("Say why, so that others understand it later: --reason '…'.")
	}
	c := record.Claim{Pattern: parsed.String(), Reason: reason, By: caller.Name, At: s.Now()}
	err = s.changeRepository(ctx, func(tx *record.Tx, _ *directory.State) (record.Event, error) {
		claims, err := tx.Claims(ctx)
		if err != nil {
			return record.Event{}, err
		}
		var known *record.Claim
		for i := range claims {
			if claims[i].Pattern == c.Pattern {
				known = &claims[i]
			}
		}
		action, err := do(tx, known, c)
		event := s.Event(caller, action)
		event.Subject = c.Pattern
		event.Detail = map[string]string{"reason": reason}
		return event, err
	})
	return c, err
}
