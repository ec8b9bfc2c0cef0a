package record_test

import (
	"fmt"
	"strings"
	"sync"
	"testing"
	"time"

	"crelvo/internal/core/catalog"
	"crelvo/internal/record"
)

// TestAskForVetting keeps a request once, with whoever wants it, also if many ask at once.
func TestAskForVetting(t *testing.T) {
	w := newWorld(t)
	key := func(name string) catalog.PackageKey {
		return catalog.PackageKey{RepositoryID: w.repo.ID, Ecosystem: "npm", Name: name}
	}
	ask := func(name, by, purpose string, at time.Time) (added bool) {
		t.Helper()
		w.within(func(tx *record.Tx) (err error) {
			added, err = tx.AskForVetting(t.Context(), key(name), "1.0.0", by, purpose, at)
			return err
		})
		return added
	}
	if !ask("kelp", "purser", "", now) || ask("kelp", "skipper", "the tide table", now.Add(time.Minute)) ||
		ask("kelp", "purser", "", now.Add(2*time.Minute)) {
		t.Error("a request is there twice, or not at all")
	}
	var asking sync.WaitGroup
	added := make(chan bool, 30)
	for i := range 30 {
		asking.Go(func() { added <- ask("wrack", fmt.Sprint("hand-", i), "", now.Add(-time.Minute)) })
	}
	asking.Wait()
	close(added)
	first := 0
	for a := range added {
		if a {
			first++
		}
	}
	all, err := w.VettingRequests(t.Context(), []int64{w.repo.ID})
	if err != nil || len(all) != 2 || first != 1 {
		t.Fatalf("%d requests, of which %d were the first, %v", len(all), first, err)
	}
	kelp, wrack := all[0], all[1] // what was asked for last comes first
	if strings.Join(kelp.By, " ") != "skipper purser" || kelp.Purpose != "the tide table" || kelp.Asked != 3 ||
		!kelp.FirstAt.Equal(now) || !kelp.LastAt.Equal(now.Add(2*time.Minute)) || kelp.Version != "1.0.0" {
		t.Errorf("the request is %+v", kelp)
	}
	if wrack.Asked != 30 || len(wrack.By) != 20 {
		t.Errorf("%d asked %d times", len(wrack.By), wrack.Asked)
	}
	if n, err := w.CountVettingRequests(t.Context(), []int64{w.repo.ID, 77}); err != nil || n != 2 {
		t.Errorf("%d requests, %v", n, err)
	}
	if err := w.DropVettingRequests(t.Context(), []int64{kelp.ID}); err != nil {
		t.Fatal(err)
	}
	if all, err := w.VettingRequests(t.Context(), []int64{w.repo.ID}); err != nil || len(all) != 1 ||
		all[0].ID != wrack.ID {
		t.Errorf("what is left is %+v, %v", all, err)
	}
}

// TestVettings stand until somebody ends them, or their time is over.
func TestVettings(t *testing.T) {
	w := newWorld(t)
	until := now.Add(time.Hour)
	var first int64
	w.within(func(tx *record.Tx) (err error) {
		if first, err = tx.AddVetting(t.Context(), record.Vetting{Pattern: "pkg:npm/kelp", Repositories: []string{"north-*"},
			Reason: "read", By: "purser", MadeAt: now}); err != nil {
			return err
		}
		_, err = tx.AddVetting(t.Context(), record.Vetting{Refused: true, Pattern: "pkg:npm/wrack", Reason: "no", By: "purser",
			MadeAt: now, Until: &until})
		return err
	})
	stand := func(at time.Time) (said string) {
		t.Helper()
		all, err := w.StandingVettings(t.Context(), at)
		if err != nil {
			t.Fatal(err)
		}
		for _, v := range all {
			said += fmt.Sprint(v.Pattern, " ", v.Refused, " ", v.Repositories, "; ")
		}
		return said
	}
	if got := stand(now); got != "pkg:npm/wrack true []; pkg:npm/kelp false [north-*]; " {
		t.Errorf("standing: %s", got)
	}
	if got := stand(until); got != "pkg:npm/kelp false [north-*]; " {
		t.Errorf("an hour later: %s", got)
	}
	w.within(func(tx *record.Tx) error {
		v, err := tx.Vetting(t.Context(), first)
		if err != nil || v.EndedAt != nil {
			return fmt.Errorf("%+v, %w", v, err)
		}
		return tx.EndVetting(t.Context(), first, "skipper", now)
	})
	all, err := w.Vettings(t.Context(), 10)
	if got := stand(until); err != nil || got != "" || len(all) != 2 || all[1].EndedBy != "skipper" {
		t.Errorf("ended: %s, %+v, %v", got, all, err)
	}
}
