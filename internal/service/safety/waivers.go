package safety

import (
	"context"
	"errors"
	"slices"
	"strconv"
	"strings"
	"time"

	"crelvo/internal/core/access"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/purl"
	"crelvo/internal/core/safety"
	"crelvo/internal/record"
	"crelvo/internal/service/act"
)

// NewWaiver is a waiver that somebody wants to make.
type NewWaiver struct {
	Advisory, Pattern, Reason string
	Until                     time.Time // zero: it does not end by itself
	// Justification is why it is not affected, as statements of exploitability say it.
	Justification string
}

// Waive accepts an advisory for what a pattern fits, and gives the waiver.
func (s *Safety) Waive(ctx context.Context, caller access.Caller, n NewWaiver) (w record.Waiver, err error) {
	if err := s.directory.Allow(caller, access.Manage, act.Everything); err != nil {
		return w, err
	}
	a, err := s.DB.Advisory(ctx, n.Advisory)
	if errors.Is(err, record.ErrNotFound) {
		return w, fault.New(fault.NotFound, "no-such-advisory", "no advisory %q is known, so it cannot be waived",
			n.Advisory).
			WithHint("crelvo advisory list shows those that are.")
	}
	if err != nil {
		return w, err
	}
	pattern, err := purl.ParsePattern(n.Pattern)
	if err != nil {
		return w, err
	}
	if n.Reason = strings.TrimSpace(n.Reason); n.Reason == "" {
		return w, act.Invalid("no-reason", "a waiver says why it is right to go on with %s", n.Pattern)
	}
	now := s.Now()
	if !n.Until.IsZero() && !n.Until.After(now) {
		return w, act.Invalid("bad-time", "%s is over", n.Until.UTC().Format(act.TimeForm)).
			WithHint("Name a day to come.")
	}
	if n.Justification != "" && !slices.ContainsFunc(safety.Justifications, func(j [2]string) bool {
		return j[0] == n.Justification
	}) {
		return w, act.Invalid("bad-justification", "nobody knows the justification %.60q", n.Justification)
	}
	if a.Malicious() {
		if one := (safety.Waiver{Pattern: pattern}); !one.NamesOne() || n.Advisory != a.ID {
			return w, act.Invalid("too-wide",
				"%s says that the package is malicious; that can be waived for one version only", a.ID).
				WithHint("Name the version that is none: crelvo waiver add %s %s@VERSION --reason ….", a.ID,
					a.Affected[0].Package.Typed())
		}
	}
	w = record.Waiver{Advisory: n.Advisory, Pattern: pattern.String(), Reason: n.Reason, By: caller.Name, MadeAt: now,
		Justification: n.Justification}
	if !n.Until.IsZero() {
		w.Until = &n.Until
	}
	event := s.Event(caller, record.EventWaiverMade)
	event.Subject = n.Advisory
	event.Detail = map[string]string{"for": w.Pattern, "reason": n.Reason, "until": "ended by somebody"}
	if w.Until != nil {
		event.Detail["until"] = w.Until.UTC().Format(act.TimeForm)
	}
	err = s.DB.Within(ctx, func(tx *record.Tx) error {
		if w.ID, err = tx.AddWaiver(ctx, w); err != nil {
			return err
		}
		return tx.Append(ctx, event, record.Change{Kind: record.OfWaiver})
	})
	return w, err
}

// Waivers lists the waivers, those that ended too if all is wanted; the newest first.
func (s *Safety) Waivers(ctx context.Context, all bool) ([]record.Waiver, error) {
	if all {
		const most = 10_000
		return s.DB.Waivers(ctx, most)
	}
	return s.DB.StandingWaivers(ctx, s.Now())
}

// EndWaiver ends one.
func (s *Safety) EndWaiver(ctx context.Context, caller access.Caller, id int64) error {
	if err := s.directory.Allow(caller, access.Manage, act.Everything); err != nil {
		return err
	}
	return s.DB.Within(ctx, func(tx *record.Tx) error {
		w, ended, err := tx.EndWaiver(ctx, id, caller.Name, s.Now())
		if err != nil {
			return err
		}
		if !ended {
			return fault.New(fault.NotFound, "no-such-waiver", "no waiver %d stands", id).
				WithHint("crelvo waiver list shows those that do.")
		}
		event := s.Event(caller, record.EventWaiverEnded)
		event.Subject = w.Advisory
		event.Detail = map[string]string{"for": w.Pattern, "waiver": strconv.FormatInt(id, 10)}
		return tx.Append(ctx, event, record.Change{Kind: record.OfWaiver})
	})
}
