package service

import (
	"errors"
	"fmt"
	"sync"
	"testing"

	"crelvo/internal/core/fault"
	"crelvo/internal/core/purl"
	"crelvo/internal/ecosystem/madeup"
	"crelvo/internal/record"
	"crelvo/internal/record/recordtest"
)

// conflict tells whether an error is one that somebody else was the cause of.
func conflict(err error) bool {
	var f *fault.Error
	return err == nil || record.Collided(err) || errors.As(err, &f) && f.Kind < 500
}

// TestAtOnce: what two do at once to the same is done, or a conflict that can be
// told; never a fault of the service.
func TestAtOnce(t *testing.T) {
	n := newNode(t, recordtest.URL(t))
	r := n.repository(t)
	const rounds, hands = 12, 4
	for round := range rounds {
		version := fmt.Sprintf("1.0.%d", round)
		made := madeup.Package{Name: modelled, Version: version, Licence: "MIT"}
		n.npm(t, n.admin, r, made)
		of := purl.PURL{Ecosystem: "npm", Namespace: "@skerry", Name: "part-1", Version: version}
		var all sync.WaitGroup
		together := func(what string, do func() error) {
			for range hands {
				all.Go(func() {
					if err := do(); !conflict(err) {
						t.Errorf("%s: %v", what, err)
					}
				})
			}
		}
		together("pin", func() error {
			return n.Retention.Pin(t.Context(), n.admin, "releases", "npm", "@skerry", "part-1", version, "why not", nil)
		})
		together("unpin", func() error {
			return n.Retention.Unpin(t.Context(), n.admin, "releases", "npm", "@skerry", "part-1", version)
		})
		together("withdraw", func() error {
			return n.Publishing.WithdrawVersion(t.Context(), n.admin, "releases", of, "leaks", round%2 == 1)
		})
		all.Wait()
		if err := n.Retention.Unpin(t.Context(), n.admin, "releases", "npm", "@skerry", "part-1", version); !conflict(err) {
			t.Errorf("the last unpin: %v", err)
		}
		removed, err := n.Retention.RemoveVersion(t.Context(), n.admin, "releases", of)
		if err != nil {
			t.Fatal(err)
		}
		together("bring back", func() error {
			_, err := n.Retention.UndoSweep(t.Context(), n.admin, removed.ID, nil)
			return err
		})
		together("publish", func() error {
			_, err := n.Publishing.PublishByHand(t.Context(), n.admin, r, purl.PURL{}, handed(made))
			return err
		})
		all.Wait()
		if mended, err := n.Retention.VerifyRecords(t.Context(), n.admin); err != nil || len(mended) != 0 {
			t.Errorf("round %d: the records do not agree: %+v, %v", round, mended, err)
		}
	}
	p, err := n.Holdings.Package(t.Context(), r.Key("npm", "@skerry", "part-1"))
	if err != nil || len(p.Versions) != rounds {
		t.Errorf("%d versions are listed, %v; want %d", len(p.Versions), err, rounds)
	}
}
