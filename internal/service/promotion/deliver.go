package promotion

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"time"

	"crelvo/internal/core/access"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/ecosystem"
	"crelvo/internal/record"
	"crelvo/internal/service/act"
	"crelvo/internal/service/secret"
	"crelvo/internal/upstream"
)

func (s *Promotion) senderOf(name string) (ecosystem.Sending, bool) {
	e, ok := s.Ecosystem(name).(ecosystem.Sending)
	return e, ok
}

// sendOn notes what a promotion sends on to other servers.
func (s *Promotion) sendOn(ctx context.Context, tx *record.Tx, p record.Promotion, c *crossing, ids []int64) error {
	if len(p.Onward) == 0 {
		return nil
	}
	destinations, err := tx.Destinations(ctx)
	if err != nil {
		return err
	}
	for _, name := range p.Onward {
		i := slices.IndexFunc(destinations, func(d record.Destination) bool { return d.Name == name })
		if i < 0 {
			return fault.New(fault.Conflict, "no-such-destination", "there is no destination %s any more", name).
				WithHint("Have an admin write the track %s anew.", p.Track)
		}
		var of []int64
		for j, item := range c.items {
			if item.Ecosystem == destinations[i].Ecosystem {
				of = append(of, ids[j])
			}
		}
		if err := tx.AddDeliveries(ctx, p.ID, name, of, s.Now()); err != nil {
			return err
		}
	}
	return nil
}

const (
	// deliveryLease is how long one attempt may take until another node takes it
	// over.
	deliveryLease = 10 * time.Minute
	// lastAttempt is after how many attempts a delivery has failed: some fifteen
	// hours.
	lastAttempt = 24
)

// deliver sends on what is due.
func (s *Promotion) deliver(ctx context.Context) error {
	for ctx.Err() == nil {
		d, ok, err := s.DB.TakeDelivery(ctx, s.Now(), s.Now().Add(deliveryLease))
		if err != nil || !ok {
			return err
		}
		limited, cancel := context.WithTimeout(ctx, deliveryLease-time.Minute)
		err = s.deliverOne(limited, d)
		cancel()
		now := s.Now()
		var no *ecosystem.Rejection
		switch {
		case err == nil:
			d.State, d.Said, d.EndedAt = record.DeliveryDone, "sent", &now
		case ctx.Err() != nil:
			d.State, d.Said, d.NextAt = record.DeliveryWaiting, "the server ended in the middle of it", now
		case errors.As(err, &no) && no.Final || d.Attempts >= lastAttempt:
			d.State, d.Said, d.EndedAt = record.DeliveryFailed, err.Error(), &now
		default:
			d.State, d.Said, d.NextAt = record.DeliveryWaiting, err.Error(), now.Add(min(time.Hour, 5*time.Second<<d.Attempts))
		}
		noting, cancel := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
		err = s.DB.SetDelivery(noting, d)
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
	event.Detail = map[string]string{"destination": d.Destination, "said": d.Said, "attempts": fmt.Sprint(d.Attempts)}
	if of, err := tx.VersionsByID(ctx, []int64{d.VersionID}); err == nil && len(of) == 1 {
		event.Detail["version"] = act.PURLOf(of[0].Key(), of[0].Version).String()
		r, _ := s.directory.RepositoryByID(of[0].RepositoryID)
		event.Repository = r.Name
	}
	return tx.Append(ctx, event, change)
}

// deliverOne sends one version on.
func (s *Promotion) deliverOne(ctx context.Context, d record.Delivery) error {
	return s.Send(ctx, d.Destination, d.VersionID, func(f ecosystem.SeekableFile) ecosystem.SeekableFile { return f })
}

// Send sends a version to a destination by the protocol of its ecosystem. reading wraps its files while they
// are read. An error that is an *ecosystem.Rejection tells whether to try again.
func (s *Promotion) Send(ctx context.Context, destination string, versionID int64,
	reading func(ecosystem.SeekableFile) ecosystem.SeekableFile) error {
	to, err := s.destination(ctx, destination)
	if err != nil {
		return err
	}
	e, ok := s.senderOf(to.Ecosystem)
	if !ok {
		return &ecosystem.Rejection{Said: "nothing can be sent on for " + to.Ecosystem, Final: true}
	}
	versions, err := s.DB.VersionsByID(ctx, []int64{versionID})
	if err != nil {
		return err
	}
	if len(versions) == 0 {
		return &ecosystem.Rejection{Said: "the version is not there any more", Final: true}
	}
	files, err := s.DB.FilesOf(ctx, []int64{versionID})
	if err != nil {
		return err
	}
	as, err := s.safe.OpenSignIn(to.Secret, secret.Destination)
	if err != nil {
		return err
	}
	labels, err := s.DB.LabelsOf(ctx, []int64{versionID})
	if err != nil {
		return err
	}
	v := versions[0]
	list := files[versionID]
	slices.SortFunc(list, func(a, b catalog.File) int { return int(a.ID - b.ID) })
	return inWords(to.Name, e.Send(ctx, ecosystem.Shipment{Namespace: v.Namespace, Name: v.Name, Version: v.Version,
		Files: list, Labels: labels[versionID], URL: to.URL, User: as.User, Secret: as.Secret,
		Client: upstream.Plain(to.URL, to.Private),
		Agent:  s.Settings.Version,
		Open: func(f catalog.File) (ecosystem.SeekableFile, error) {
			file, err := s.store.Open(ctx, f)
			if err != nil {
				return nil, err
			}
			return reading(file), nil
		}}))
}

// inWords makes an error for people of one on the way to a destination.
func inWords(name string, err error) error {
	var network *url.Error
	if !errors.As(err, &network) {
		return err
	}
	return errors.New(name + " " + upstream.InWords(err))
}

// destination finds a destination by its name.
func (s *Promotion) destination(ctx context.Context, name string) (record.Destination, error) {
	destinations, err := s.DB.Destinations(ctx)
	if err != nil {
		return record.Destination{}, err
	}
	i := slices.IndexFunc(destinations, func(o record.Destination) bool { return o.Name == name })
	if i < 0 {
		return record.Destination{}, &ecosystem.Rejection{Said: "there is no destination " + name + " any more", Final: true}
	}
	return destinations[i], nil
}

// Reach asks a destination whether it is there and lets us in; it publishes nothing. It gives the status of
// its answer.
func (s *Promotion) Reach(ctx context.Context, name string) (status int, err error) {
	to, err := s.destination(ctx, name)
	if err != nil {
		return 0, err
	}
	as, err := s.safe.OpenSignIn(to.Secret, secret.Destination)
	if err != nil {
		return 0, err
	}
	status, _, err = ecosystem.Shipment{URL: to.URL, User: as.User, Secret: as.Secret,
		Client: upstream.Plain(to.URL, to.Private), Agent: s.Settings.Version}.Ask(ctx, http.MethodGet, to.URL, nil, 0, nil)
	return status, inWords(name, err)
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
