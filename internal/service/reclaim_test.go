package service

import (
	"context"
	"fmt"
	"slices"
	"sync"
	"testing"
	"time"

	"crelvo/internal/record"
	"crelvo/internal/record/recordtest"
)

// TestReclaimBesidePublishing publishes the same few bytes again and again while
// they are swept and reclaimed at once: what was acknowledged and can be seen is
// there.
func TestReclaimBesidePublishing(t *testing.T) {
	n := newNode(t, recordtest.URL(t))
	r := n.repository(t)
	ctx, stop := context.WithCancel(t.Context())
	var publishing, reclaiming sync.WaitGroup
	reclaimed := 0
	failed := make(chan error, 8)
	reclaiming.Go(func() {
		for ctx.Err() == nil {
			if _, err := n.Retention.Reclaim(t.Context(), n.admin, true); err != nil {
				failed <- err
				return
			}
			reclaimed++
		}
	})
	for publisher := range 4 {
		publishing.Go(func() {
			for i := range 40 {
				version := fmt.Sprintf("%d.%d.0", publisher, i)
				if err := n.publish(t, r, version, fmt.Sprint("one of three ", i%3)); err != nil {
					failed <- fmt.Errorf("%s: %w", version, err)
					return
				}
				if publisher == 0 {
					continue // that stays
				}
				// What goes without grace frees its bytes at once.
				if err := n.DB.Within(t.Context(), func(tx *record.Tx) error {
					_, err := tx.RemoveVersions(t.Context(), tideKey(r), []string{version}, 0, n.Now())
					return err
				}); err != nil {
					failed <- err
					return
				}
			}
		})
	}
	publishing.Wait()
	stop()
	reclaiming.Wait()
	close(failed)
	for err := range failed {
		t.Error(err)
	}
	if reclaimed < 2 {
		t.Errorf("it was reclaimed %d times", reclaimed)
	}
	n.wholeStore(t)
	if got := n.versions(t, r); len(got) != 40 {
		t.Errorf("%d versions of 40 are there", len(got))
	}
}

// TestReclaimRaces publishes bytes in the very moments in which they are reclaimed.
func TestReclaimRaces(t *testing.T) {
	ctx := t.Context()
	n := newNode(t, recordtest.URL(t))
	r := n.repository(t)
	// unnamed publishes bytes, and leaves them with nothing that names them.
	unnamed := func(version, content string) {
		t.Helper()
		if err := n.publish(t, r, version, content); err != nil {
			t.Fatal(err)
		}
		if err := n.DB.Within(ctx, func(tx *record.Tx) error {
			ids, err := tx.RemoveVersions(ctx, tideKey(r), []string{version}, 0, n.Now())
			if err == nil && len(ids) != 1 {
				err = fmt.Errorf("%d versions were removed", len(ids))
			}
			return err
		}); err != nil {
			t.Fatal(err)
		}
		if err := n.Retention.ReclaimAll(ctx, new(record.Reclaiming), time.Hour); err != nil {
			t.Fatal(err)
		}
	}
	there := func(version string) {
		t.Helper()
		if !slices.Contains(n.versions(t, r), version) {
			t.Errorf("%s is not there", version)
		}
		n.wholeStore(t)
	}
	// Between the keeping of the bytes and their record.
	unnamed("1.0.0", "a")
	n.store.kept = func() {
		if run, err := n.Retention.Reclaim(ctx, n.admin, true); err != nil || run.Files == 0 {
			t.Errorf("%+v %v", run, err)
		}
	}
	if err := n.publish(t, r, "1.0.1", "a"); err != nil {
		t.Error(err)
	}
	there("1.0.1")

	// While somebody holds the record of the bytes and has dropped them already: it
	// may come to its end, or be undone.
	for i, end := range []string{"commit", "rollback"} {
		content := fmt.Sprint("b", i)
		unnamed(fmt.Sprintf("2.%d.0", i), content)
		tx, err := n.DB.BeginTxx(ctx, nil)
		if err != nil {
			t.Fatal(err)
		}
		var sums [][]byte
		if err := tx.SelectContext(ctx, &sums,
			`select sha256 from stored_file where unnamed_since is not null for update`); err != nil || len(sums) == 0 {
			t.Fatal(sums, err)
		}
		version := fmt.Sprintf("2.%d.1", i)
		result := make(chan error, 1)
		dropped := make(chan struct{})
		n.store.kept = func() {
			for _, sum := range sums {
				if err := n.store.Drop(ctx, [32]byte(sum)); err != nil {
					t.Error(err)
				}
			}
			close(dropped)
		}
		go func() { result <- n.publish(t, r, version, content) }()
		<-dropped
		for waits := 0; waits == 0; {
			if err := n.DB.GetContext(ctx, &waits,
				`select count(*) from pg_stat_activity where datname = current_database()
					and wait_event_type = 'Lock'`); err != nil {
				t.Fatal(err)
			}
		}
		if end == "commit" {
			_, err = tx.ExecContext(ctx, `delete from stored_file where sha256 = any($1)`, sums)
			if err == nil {
				err = tx.Commit()
			}
		} else {
			err = tx.Rollback()
		}
		if err != nil {
			t.Fatal(err)
		}
		if err := <-result; err != nil {
			t.Errorf("%s: %v", end, err)
		}
		there(version)
	}
}
