package publishing

import (
	"context"
	"slices"
	"strings"
	"time"

	"crelvo/internal/core/access"
	"crelvo/internal/core/bundle"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/ecosystem"
	"crelvo/internal/record"
	"crelvo/internal/service/act"
)

// TakeMarks takes over what was said of the labels and withdrawals of a package at another place, unless something
// else was said of them later here, and tells what is not, and why. Of versions that are not here nothing is taken.
func (s *Publishing) TakeMarks(
	ctx context.Context, caller access.Caller, key catalog.PackageKey, marks bundle.Marks,
) (refused []string, err error) {
	if len(marks.Labels)+len(marks.Withdrawn) == 0 {
		return nil, nil
	}
	houses, err := s.houses(ctx, caller, access.Publish, key, func(p *catalog.Package) bool {
		return slices.ContainsFunc(marks.Labels, func(l bundle.Labelled) bool {
			return p.Labels[l.Name] != "" || HasVersion(p, l.Version)
		}) || slices.ContainsFunc(marks.Withdrawn, func(w bundle.Withdrawal) bool { return HasVersion(p, w.Version) })
	})
	if err != nil {
		return nil, err
	}
	for _, at := range houses {
		some, err := s.takeMarksIn(ctx, caller, at, marks)
		if refused = append(refused, some...); err != nil {
			return refused, err
		}
	}
	return refused, nil
}

// takeMarksIn is TakeMarks in a house repository.
func (s *Publishing) takeMarksIn(
	ctx context.Context, caller access.Caller, key catalog.PackageKey, marks bundle.Marks,
) (refused []string, err error) {
	r, p, err := s.Changing(ctx, caller, access.Publish, key)
	if err != nil {
		return nil, err
	}
	m, byLabels := s.Ecosystem(key.Ecosystem).(ecosystem.Maturing)
	var labels, versions []string
	for _, l := range marks.Labels {
		labels = append(labels, l.Name)
	}
	for _, w := range marks.Withdrawn {
		versions = append(versions, w.Version)
	}
	// Most of what is told is known: what is not new is found at once, and what is, is looked at again alone.
	labelled, err := s.DB.LabelsSaid(ctx, key, labels)
	if err != nil {
		return nil, err
	}
	withdrawn, err := s.DB.WithdrawalsSaid(ctx, key, versions)
	if err != nil {
		return nil, err
	}
	for _, l := range marks.Labels {
		l.At = s.past(l.At)
		if l.Version != "" && !HasVersion(p, l.Version) || !isNews(labelled, l.Name, l.Version != "", l.At) {
			continue
		}
		if byLabels {
			err = s.mayLabel(caller, r, key, m, l.Name, l.Version)
		}
		if err == nil {
			err = s.takeLabel(ctx, caller, r, key, l)
		}
		if refused, err = told(refused, "the label "+l.Name, err); err != nil {
			return refused, err
		}
	}
	for _, w := range marks.Withdrawn {
		w.At = s.past(w.At)
		if !HasVersion(p, w.Version) || !isNews(withdrawn, w.Version, !w.Lifted, w.At) {
			continue
		}
		if refused, err = told(refused, w.Version, s.takeWithdrawal(ctx, caller, r, key, w)); err != nil {
			return refused, err
		}
	}
	return refused, nil
}

// isNews tells whether what is said at a moment, that something is so or is not, was not said before, and nothing
// later was.
func isNews(said map[string]record.SaidMark, of string, on bool, at time.Time) bool {
	is, known := said[of]
	return known && at.After(is.At) || !known && on
}

// told adds why something is not taken, if that is not the fault of this server.
func told(refused []string, what string, err error) ([]string, error) {
	if err == nil {
		return refused, nil
	}
	f := fault.Of(err)
	if f.Kind == fault.Internal || f.Kind == fault.Unavailable {
		return refused, err
	}
	return append(refused, what+": "+f.Message), nil
}

// past is a moment that was, or now: what a clock that is ahead says must not count for ever.
func (s *Publishing) past(at time.Time) time.Time {
	if now := s.Now(); at.After(now) {
		at = now
	}
	return at.Truncate(time.Microsecond) // as it is on record
}

// takeLabel takes over what was said of a label.
func (s *Publishing) takeLabel(
	ctx context.Context, caller access.Caller, r catalog.Repository, key catalog.PackageKey, l bundle.Labelled,
) error {
	return s.DB.Within(ctx, func(tx *record.Tx) error {
		if err := tx.HoldPackage(ctx, key); err != nil {
			return err
		}
		said, err := tx.LabelsSaid(ctx, key, []string{l.Name})
		if err != nil || !isNews(said, l.Name, l.Version != "", l.At) {
			return err
		}
		is := said[l.Name]
		before := ""
		if is.On {
			before = is.Is
		}
		switch {
		case before == l.Version: // it is as it was said once more, later
			return tx.SayLabel(ctx, key, l.Name, l.At)
		case l.Version == "":
			if _, err := tx.DropLabel(ctx, key, l.Name, s.Now()); err != nil {
				return err
			}
		default:
			if m, ok := s.Ecosystem(key.Ecosystem).(ecosystem.Maturing); ok {
				if _, err := s.Moved(ctx, tx, m, r, key, []string{l.Name}, l.Version); err != nil {
					return err
				}
			}
			if err := tx.SetLabel(ctx, key, l.Name, l.Version, caller.Name, s.Now()); err != nil {
				return err
			}
		}
		if err := tx.SayLabel(ctx, key, l.Name, l.At); err != nil {
			return err
		}
		event := s.Event(caller, record.EventLabelMoved)
		event.Detail = map[string]string{"label": l.Name, "before": before, "after": l.Version}
		return s.announceMark(ctx, tx, r, key, l.Version, event)
	})
}

// takeWithdrawal takes over what was said of whether a version is withdrawn.
func (s *Publishing) takeWithdrawal(
	ctx context.Context, caller access.Caller, r catalog.Repository, key catalog.PackageKey, w bundle.Withdrawal,
) error {
	return s.DB.Within(ctx, func(tx *record.Tx) error {
		if err := tx.HoldPackage(ctx, key); err != nil {
			return err
		}
		said, err := tx.WithdrawalsSaid(ctx, key, []string{w.Version})
		if err != nil || !isNews(said, w.Version, !w.Lifted, w.At) {
			return err
		}
		is := said[w.Version]
		event := s.Event(caller, record.EventVersionsWithdrawn)
		event.Detail = map[string]string{"versions": w.Version, "reason": strings.TrimSpace(w.Reason)}
		versions := []string{w.Version}
		switch {
		case is.On != w.Lifted && (w.Lifted || is.Is == w.Reason):
			return tx.SayWithdrawal(ctx, key, w.Version, w.At)
		case w.Lifted:
			event = s.Event(caller, record.EventWithdrawalEnded)
			event.Detail = map[string]string{"versions": w.Version}
			err = tx.Restore(ctx, key, versions, s.Now())
		default:
			err = tx.Withdraw(ctx, key, versions, []string{w.Reason}, caller.Name, s.Now())
		}
		if err == nil {
			err = tx.SayWithdrawal(ctx, key, w.Version, w.At)
		}
		if err != nil {
			return err
		}
		return s.announceMark(ctx, tx, r, key, w.Version, event)
	})
}

func (s *Publishing) announceMark(
	ctx context.Context, tx *record.Tx, r catalog.Repository, key catalog.PackageKey, version string, event record.Event,
) error {
	event.Repository, event.Subject = r.Name, act.PURLOf(key, version).String()
	return s.Announce(ctx, tx, r, key.Ecosystem, key.Namespace, key.Name, version, event)
}
