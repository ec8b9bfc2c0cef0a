package record_test

import (
	"context"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"math/rand/v2"
	"strings"
	"sync"
	"testing"
	"time"

	"crelvo/internal/core/catalog"
	"crelvo/internal/core/query"
	"crelvo/internal/record"
	"crelvo/internal/record/recordtest"
)

func TestMain(m *testing.M) { recordtest.Main(m) }

var now = time.Date(2026, 11, 1, 8, 0, 0, 0, time.UTC)

type world struct {
	url string
	*record.DB
	t    *testing.T
	repo catalog.Repository
}

func newWorld(t *testing.T) *world {
	t.Helper()
	url := recordtest.URL(t)
	w := &world{DB: recordtest.Open(t, url), t: t, url: url}
	w.within(func(tx *record.Tx) error {
		var ok bool
		var err error
		w.repo, ok, err = tx.AddRepository(t.Context(),
			record.StoredRepository{Repository: catalog.Repository{Name: "releases", Kind: catalog.House, Holds: catalog.Both,
				CreatedAt: now}})
		if !ok {
			t.Error("the name is taken in an empty database")
		}
		for _, name := range []string{"ci-berth", "purser"} {
			if _, _, err := tx.AddPrincipal(t.Context(), record.Principal{Name: name, Kind: "robot",
				CreatedAt: now}); err != nil {
				return err
			}
		}
		return err
	})
	return w
}

func (w *world) within(do func(tx *record.Tx) error) {
	w.t.Helper()
	if err := w.Within(w.t.Context(), do); err != nil {
		w.t.Fatal(err)
	}
}

func (w *world) file(name, version, content string, publisher int64, at time.Time) record.NewFile {
	return record.NewFile{Key: catalog.PackageKey{RepositoryID: w.repo.ID, Ecosystem: "maven",
		Namespace: "example.skerry.berth", Name: name},
		Version: version, UploadedAt: at, Name: name + "-" + version + ".jar", Extension: "jar",
		Digests:     catalog.Digests{Size: int64(len(content)), SHA256: sha256.Sum256([]byte(content))},
		PublisherID: publisher, PublisherName: fmt.Sprint("publisher-", publisher), At: at, QuietSince: at.Add(-time.Minute)}
}

func (w *world) add(f record.NewFile) (added record.Added) {
	w.t.Helper()
	w.within(func(tx *record.Tx) (err error) {
		added, err = tx.AddFile(w.t.Context(), f)
		return err
	})
	return added
}

func (w *world) complete(id int64, at time.Time) (done bool) {
	w.t.Helper()
	w.within(func(tx *record.Tx) (err error) {
		done, err = tx.Complete(w.t.Context(), id, 0, at)
		return err
	})
	return done
}

// TestAddFile goes through what can happen to a version while it is open and
// after.
func TestAddFile(t *testing.T) {
	w := newWorld(t)
	ctx := t.Context()
	first := w.add(w.file("a", "1", "one", 1, now))
	if first.Same || first.Taken || first.Visible {
		t.Fatalf("the first file: %+v", first)
	}
	if again := w.add(w.file("a", "1", "one", 1, now)); !again.Same || again.VersionID != first.VersionID {
		t.Errorf("the same bytes again: %+v", again)
	}
	if other := w.add(w.file("a", "1", "two", 1, now)); !other.Taken {
		t.Errorf("other bytes while it is open: %+v", other)
	}
	if stranger := w.add(w.file("a", "1", "one", 2, now)); !stranger.Taken || stranger.By != "publisher-1" {
		t.Errorf("somebody else while it is open: %+v", stranger)
	}
	if later := w.add(w.file("a", "1", "two", 2, now.Add(2*time.Minute))); later.Taken || later.Same {
		t.Errorf("somebody else after it was given up: %+v", later)
	}
	w.within(func(tx *record.Tx) error {
		return tx.MarkBroken(ctx, w.file("a", "1", "", 2, now))
	})
	if w.complete(first.VersionID, now) {
		t.Error("a version with a broken file was completed")
	}
	if mended := w.add(w.file("a", "1", "two", 2, now.Add(2*time.Minute))); !mended.Same {
		t.Errorf("the broken file again: %+v", mended)
	}
	if !w.complete(first.VersionID, now) {
		t.Error("a whole version was not completed")
	}
	if w.complete(first.VersionID, now) {
		t.Error("a version was completed twice")
	}
	for _, late := range []record.NewFile{w.file("a", "1", "three", 2, now.Add(time.Hour)),
		w.file("a", "1", "three", 1, now.Add(time.Hour))} {
		if got := w.add(late); !got.Taken || !got.Visible || !got.At.Equal(now) {
			t.Errorf("other bytes for a visible version: %+v", got)
		}
	}
	signature := w.file("a", "1", "signature", 1, now)
	signature.Name, signature.Extension = "a-1.jar.asc", "jar.asc"
	if got := w.add(signature); got.Taken || got.Same || !got.Visible {
		t.Errorf("a further file of a visible version: %+v", got)
	}
	known, err := w.Package(ctx, signature.Key, record.Known{})
	if p := known.Package; err != nil || len(p.Versions) != 1 || len(p.Versions[0].Files) != 2 ||
		p.Versions[0].PublishedBy != "publisher-2" {
		t.Errorf("%+v, %v", p, err)
	}
}

// TestTotalsStayTrue compares the kept totals with a count after many random
// changes.
func TestTotalsStayTrue(t *testing.T) {
	w := newWorld(t)
	random := rand.New(rand.NewPCG(7, 11))
	open := []int64{}
	for i := range 300 {
		at := now.Add(time.Duration(i) * time.Second)
		switch random.IntN(4) {
		case 0, 1:
			f := w.file(fmt.Sprint("m", random.IntN(8)), fmt.Sprint(random.IntN(10)), strings.Repeat("x", random.IntN(50)), 1,
				at)
			f.Name += fmt.Sprint(random.IntN(3))
			if added := w.add(f); !added.Visible {
				open = append(open, added.VersionID)
			}
		case 2:
			if len(open) > 0 {
				w.complete(open[random.IntN(len(open))], at)
			}
		case 3:
			if len(open) > 0 {
				w.within(func(tx *record.Tx) error {
					_, err := tx.Abandon(t.Context(), open[random.IntN(len(open))], at)
					return err
				})
			}
		}
	}
	var counted record.Total
	if err := w.QueryRowContext(t.Context(),
		`select count(distinct v.package_id), count(distinct v.id), coalesce(sum(b.size), 0)
		from version v left join file f on f.version_id = v.id left join stored_file b using (sha256)
		where v.visible_from is not null and v.visible_until is null`).Scan(&counted.Packages, &counted.Versions,
		&counted.Bytes); err != nil {
		t.Fatal(err)
	}
	totals, err := w.Totals(t.Context(), record.Scope{Repositories: []int64{w.repo.ID}})
	if err != nil {
		t.Fatal(err)
	}
	if got := totals[w.repo.ID]; got.Packages != counted.Packages || got.Versions != counted.Versions ||
		got.Bytes != counted.Bytes || got.Versions == 0 {
		t.Errorf("kept: %+v; counted: %+v", got, counted)
	}
}

// TestEventsAreChained appends from many transactions at once, and follows the
// hashes.
func TestEventsAreChained(t *testing.T) {
	w := newWorld(t)
	const writers, each = 8, 20
	var running sync.WaitGroup
	for n := range writers {
		running.Go(func() {
			for i := range each {
				err := w.Within(context.WithoutCancel(t.Context()), func(tx *record.Tx) error {
					return tx.Append(t.Context(), record.Event{At: now, Who: fmt.Sprint("writer-", n), Action: "test",
						Detail: map[string]string{"n": fmt.Sprint(i)}})
				})
				if err != nil {
					t.Error(err)
				}
			}
		})
	}
	running.Wait()
	list := func(f record.EventFilter) (events []record.Event) {
		t.Helper()
		if err := w.EachEvent(t.Context(), f, func(e record.SealedEvent) error {
			events = append(events, e.Event)
			return nil
		}); err != nil {
			t.Fatal(err)
		}
		return events
	}
	events := list(record.EventFilter{})
	rows, err := w.QueryContext(t.Context(), `select id, previous, hash from event order by id`)
	if err != nil {
		t.Fatal(err)
	}
	defer rows.Close()
	var last []byte
	next := int64(1)
	for rows.Next() {
		var id int64
		var previous, hash []byte
		if err := rows.Scan(&id, &previous, &hash); err != nil {
			t.Fatal(err)
		}
		// By hand: the hash before, and the event as JSON without its id.
		e := events[len(events)-int(id)]
		e.ID = 0
		line, err := json.Marshal(e)
		if err != nil {
			t.Fatal(err)
		}
		want := sha256.Sum256(append(append([]byte{}, previous...), line...))
		if id != next || string(previous) != string(last) || string(hash) != string(want[:]) {
			t.Fatalf("event %d follows %d; its previous hash fits: %v; its hash is %x, want %x of %s", id, next-1,
				string(previous) == string(last), hash, want, line)
		}
		last, next = hash, next+1
	}
	if next != writers*each+1 {
		t.Errorf("%d events; want %d", next-1, writers*each)
	}
	events = list(record.EventFilter{Who: "writer-3", Limit: 5})
	if len(events) != 5 || events[0].ID < events[1].ID || events[0].Detail["n"] == "" {
		t.Errorf("%+v", events)
	}
	for _, change := range []string{"update event set who = 'nobody' where id = 3", "delete from event where id = 3",
		"truncate event"} {
		if _, err := w.ExecContext(t.Context(), change); err == nil {
			t.Errorf("%s was done", change)
		}
	}
}

// TestSearch is about what is found, and in which order.
func TestSearch(t *testing.T) {
	w := newWorld(t)
	for i, name := range []string{"tide", "tide-model", "spring-tide", "berth_planner", "100%"} {
		added := w.add(w.file(name, "1.0", name, 1, now))
		w.complete(added.VersionID, now.Add(time.Duration(i)*time.Minute))
	}
	w.add(w.file("tide-open", "1.0", "not complete", 1, now))
	for _, c := range []struct{ words, want string }{
		{"tide", "tide tide-model spring-tide"},
		{"TIDE model", "tide-model"},
		{"skerry", "100% berth_planner spring-tide tide-model tide"},
		{"", "100% berth_planner spring-tide tide-model tide"},
		{"h_p", "berth_planner"},
		{"0%", "100%"},
		{"i_e", ""},
		{"nothing", ""},
	} {
		found, err := w.Search(t.Context(), record.Scope{Repositories: []int64{w.repo.ID}},
			query.Query{Words: strings.Fields(c.words)}, now, 10, 0)
		if err != nil {
			t.Fatal(err)
		}
		var names []string
		for _, f := range found {
			names = append(names, f.Name)
		}
		if got := strings.Join(names, " "); got != c.want {
			t.Errorf("%q finds %q; want %q", c.words, got, c.want)
		}
	}
	if found, err := w.Search(t.Context(), record.Scope{}, query.Query{}, now, 10, 0); err != nil || len(found) != 0 {
		t.Errorf("in no repository there is %v, %v", found, err)
	}
	branches, err := w.Branches(t.Context(), record.Scope{Repositories: []int64{w.repo.ID}}, 0, "maven", "example", ".")
	if err != nil || len(branches) != 1 || branches[0].Segment != "skerry" {
		t.Errorf("below example: %+v, %v", branches, err)
	}
}

// TestUnreachable tells an absent database from one that says no.
func TestUnreachable(t *testing.T) {
	_, err := record.Open(t.Context(), "postgres://nobody@127.0.0.1:1/none")
	if err == nil || !record.Unreachable(err) {
		t.Errorf("nothing listens there: %v", err)
	}
	w := newWorld(t)
	if _, err := w.ExecContext(t.Context(), "select * from no_such_table"); err == nil || record.Unreachable(err) {
		t.Errorf("a wrong query: %v", err)
	}
	if record.Unreachable(errors.New("something else")) {
		t.Error("any error counts as an absent database")
	}
}
