package promotion

import (
	"context"
	"fmt"
	"slices"
	"time"

	"crelvo/internal/core/access"
	"crelvo/internal/core/fault"
	"crelvo/internal/ecosystem"
	"crelvo/internal/record"
	"crelvo/internal/service/act"
	"crelvo/internal/service/targets"
)

// sendOn notes what a promotion sends on to other servers.
func (s *Promotion) sendOn(ctx context.Context, tx *record.Tx, p record.Promotion, c *crossing, ids []int64) error {
	if len(p.Onward) == 0 {
		return nil
	}
	targets, err := tx.Targets(ctx)
	if err != nil {
		return err
	}
	for _, name := range p.Onward {
		i := slices.IndexFunc(targets, func(d record.Target) bool { return d.Name == name })
		if i < 0 {
			return fault.New(fault.Conflict, "no-such-target", "there is no target %s any more", name).
				WithHint("Have an admin write the track %s anew.", p.Track)
		}
		var of []int64
		for j, item := range c.items {
			if item.Ecosystem == targets[i].Ecosystem {
				of = append(of, ids[j])
			}
		}
		if err := tx.AddDeliveries(ctx, p.ID, name, of, s.Now()); err != nil {
			return err
		}
	}
	return nil
}

// deliver sends on what is due.
func (s *Promotion) deliver(ctx context.Context) error {
	for ctx.Err() == nil {
		d, ok, err := s.DB.TakeDelivery(ctx, s.Now(), s.Now().Add(targets.Lease))
		if err != nil || !ok {
			return err
		}
		limited, cancel := context.WithTimeout(ctx, targets.Lease-time.Minute)
		err = s.deliverOne(limited, d)
		cancel()
		back := s.after(ctx, &d, err)
		noting, cancel := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
		err = s.DB.SetDelivery(noting, d)
		if err == nil && back {
			err = s.DB.HurryDeliveries(noting, d.Target, s.Now(), s.Now().Add(targets.LongestAway))
		}
		if err == nil {
			err = s.DB.Within(noting, func(tx *record.Tx) error {
				return s.tellDelivery(noting, tx, d)
			})
		}
		cancel()
		if err != nil {
			return err
		}
	}
	return nil
}

// after notes in a delivery what came of an attempt. back is that somebody is there again.
func (s *Promotion) after(ctx context.Context, d *record.Delivery, err error) (back bool) {
	now := s.Now()
	if err != nil && ctx.Err() != nil {
		d.State, d.Said, d.NextAt = record.DeliveryWaiting, "the server ended in the middle of it", now
		return false
	}
	o := s.targets.After(d.Target, d.Attempts, err)
	d.Said, d.Attempts = o.Said, o.Attempts
	switch {
	case o.Sent:
		d.State, d.Said, d.EndedAt = record.DeliveryDone, "sent", &now
	case o.Failed:
		d.State, d.EndedAt = record.DeliveryFailed, &now
	default:
		d.State, d.NextAt = record.DeliveryWaiting, o.Next
	}
	return o.Back
}

// tellDelivery puts the end of a delivery on record.
func (s *Promotion) tellDelivery(ctx context.Context, tx *record.Tx, d record.Delivery) error {
	change := record.Change{Kind: record.OfPromotion, Name: act.Itoa(d.PromotionID)}
	if d.EndedAt == nil {
		return tx.Tell(ctx, change)
	}
	event := s.Event(access.Caller{Name: "crelvo"},
		map[string]record.Action{record.DeliveryDone: record.EventVersionSentOn,
			record.DeliveryFailed: record.EventVersionNotSentOn}[d.State])
	event.Subject = "promotion " + act.Itoa(d.PromotionID)
	event.Detail = map[string]string{"target": d.Target, "said": d.Said, "attempts": fmt.Sprint(d.Attempts)}
	if of, err := tx.VersionsByID(ctx, []int64{d.VersionID}); err == nil && len(of) == 1 {
		event.Detail["version"] = act.PURLOf(of[0].Key(), of[0].Version).String()
		r, _ := s.directory.RepositoryByID(of[0].RepositoryID)
		event.Repository = r.Name
	}
	return tx.Append(ctx, event, change)
}

// deliverOne sends one version on.
func (s *Promotion) deliverOne(ctx context.Context, d record.Delivery) error {
	return s.targets.Send(ctx, d.Target, d.VersionID, func(f ecosystem.SeekableFile) ecosystem.SeekableFile { return f })
}

// RetryDeliveries has what could not be sent on tried again.
func (s *Promotion) RetryDeliveries(ctx context.Context, caller access.Caller, id int64) (View, error) {
	v, err := s.Promotion(ctx, caller, id)
	if err != nil {
		return v, err
	}
	to, _ := s.directory.RepositoryByID(v.ToID)
	if err := s.directory.Allow(caller, access.Promote, access.Of(to)); err != nil {
		return v, err
	}
	err = s.DB.Within(ctx, func(tx *record.Tx) error {
		n, err := tx.RetryDeliveries(ctx, id, s.Now())
		if err == nil && n == 0 {
			err = fault.New(fault.Conflict, "nothing-failed", "nothing of promotion %d failed to be sent on", id)
		}
		if err != nil {
			return err
		}
		return tx.Append(ctx, s.promotionEvent(caller, record.EventSentOnAgain, v.Promotion, v.To),
			record.Change{Kind: record.OfPromotion, Name: act.Itoa(id)})
	})
	if err != nil {
		return v, err
	}
	return s.Promotion(ctx, caller, id)
}
