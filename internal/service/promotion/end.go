package promotion

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"crelvo/internal/core/access"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/promotion"
	"crelvo/internal/core/purl"
	"crelvo/internal/record"
	"crelvo/internal/service/act"
)

// Cancel ends a promotion that waits.
func (s *Promotion) Cancel(ctx context.Context, caller access.Caller, id int64, reason string) (View, error) {
	v, err := s.Promotion(ctx, caller, id)
	if err != nil {
		return v, err
	}
	if caller.Name != v.AskedBy {
		to, _ := s.directory.RepositoryByID(v.ToID)
		if err := s.directory.Allow(caller, access.Promote, access.Of(to)); err != nil {
			return v, err
		}
	}
	if v.State != record.PromotionWaiting {
		return v, fault.New(fault.Conflict, CodeNotWaiting, "promotion %d does not wait; it is %s", id, v.State)
	}
	p := v.Promotion
	p.Answers = nil
	text := "cancelled by " + caller.Name
	if reason != "" {
		text += ": " + reason
	}
	if err := s.settle(ctx, caller, p, record.PromotionCancelled, text); err != nil {
		return v, err
	}
	return s.Promotion(ctx, caller, id)
}

// Undo takes a promotion back. If somebody has downloaded any of it, a reason is
// needed, and its names stay taken.
func (s *Promotion) Undo(ctx context.Context, caller access.Caller, id int64, reason string) (View, error) {
	v, err := s.Promotion(ctx, caller, id)
	if err != nil {
		return v, err
	}
	to, ok := s.directory.RepositoryByID(v.ToID)
	if !ok {
		return v, fault.New(fault.Conflict, "stage-removed", "the repository of the promotion was removed")
	}
	for _, item := range v.Items {
		if err := s.directory.Allow(caller, access.Promote,
			access.Object{Repository: to, Package: purl.PURL{Ecosystem: item.Ecosystem, Namespace: item.Namespace,
				Name: item.Name}}); err != nil {
			return v, err
		}
	}
	if v.State != record.PromotionDone {
		return v, fault.New(fault.Conflict, "not-done", "promotion %d is %s; only what was done can be undone", id, v.State)
	}
	s.counting.WriteNow(ctx)
	var targets []int64
	for _, item := range v.Items {
		targets = append(targets, item.TargetID.Int64)
	}
	err = s.DB.Within(ctx, func(tx *record.Tx) error {
		onwards, err := tx.Onwards(ctx, targets)
		if err != nil {
			return err
		}
		if onwards != 0 {
			return fault.New(fault.Conflict, "gone-further", "promotion %d took it further", onwards).
				WithHint("Undo or cancel that one first.")
		}
		downloads, err := tx.Downloaded(ctx, targets)
		if err != nil {
			return err
		}
		sent, err := tx.CancelDeliveries(ctx, id, s.Now())
		if err != nil {
			return err
		}
		if reason == "" && downloads+int64(sent) > 0 {
			f := fault.New(fault.Conflict, "was-downloaded", "it was downloaded %s from %s already", times(downloads), to.Name)
			if downloads == 0 {
				f = fault.New(fault.Conflict, "was-sent-on", "it was sent on already, and stays where it was sent to")
			}
			return f.WithHint("Give a reason to undo it all the same; its versions are then not free for other bytes.")
		}
		done, err := tx.UndonePromotion(ctx, id, caller.Name, reason, s.Now())
		if err == nil && !done {
			err = fault.New(fault.Conflict, "not-done", "somebody else has undone promotion %d", id)
		}
		if err != nil {
			return err
		}
		if _, err := tx.TakeBack(ctx, targets, downloads+int64(sent) == 0, *v.EndedAt, s.Now()); err != nil {
			return err
		}
		event := s.promotionEvent(caller, record.EventPromotionUndone, v.Promotion, to.Name)
		event.Detail["reason"], event.Detail["downloads"] = reason, fmt.Sprint(downloads)
		return tx.Append(ctx, event, s.promotionChanges(v.Promotion, to.ID, to.Name)...)
	})
	if err != nil {
		return v, err
	}
	return s.Promotion(ctx, caller, id)
}

func times(n int64) string {
	if n == 1 {
		return "once"
	}
	return fmt.Sprintf("%d times", n)
}

// promotionChanges are what all nodes are told of a promotion that was done or
// undone.
func (s *Promotion) promotionChanges(p record.Promotion, toID int64, to string) []record.Change {
	changes := []record.Change{{Kind: "promotion", Name: act.Itoa(p.ID)}}
	for _, item := range p.Items {
		changes = append(changes, record.Change{Kind: record.OfPackage, RepositoryID: toID, Repository: to,
			Ecosystem: item.Ecosystem, Namespace: item.Namespace, Name: item.Name, Version: item.ToVersion})
	}
	return changes
}

// A promotion that is underway gives a sign of life each second. Without one for
// quietAfter, who asks for it again is not told any more that it is underway already;
// after lostAfter it has failed.
const (
	quietAfter = 4 * time.Second
	lostAfter  = 30 * time.Second
)

// waitsForPeople tells whether approvals are all that a promotion waits for: then
// it is looked at when somebody decides.
func waitsForPeople(p record.Promotion) bool {
	return !slices.ContainsFunc(p.Answers, func(a promotion.Answer) bool {
		return a.State == promotion.Waiting && !strings.HasPrefix(a.Gate, string(promotion.Approved))
	})
}

// tendPromotions looks after promotions that wait for something else than people,
// and ends those whose node is gone.
func (s *Promotion) tendPromotions(ctx context.Context) error {
	open, err := s.DB.Promotions(ctx, record.PromotionFilter{States: []string{record.PromotionWaiting,
		record.PromotionUnderway}})
	if err != nil {
		return err
	}
	var failures []error
	for _, p := range open {
		switch {
		case p.State == record.PromotionWaiting:
			if !waitsForPeople(p) {
				failures = append(failures, s.reconsider(ctx, p.ID))
			}
		case s.Now().Sub(p.AliveAt) > lostAfter:
			s.failed(ctx, access.Caller{ID: p.AskedByID, Name: p.AskedBy}, p, fault.New(fault.Unavailable, "was-interrupted",
				"the server ended in the middle of it; nothing was moved, so ask for it again"))
		}
	}
	return errors.Join(failures...)
}
