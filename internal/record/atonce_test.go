package record_test

import (
	"errors"
	"slices"
	"testing"
	"time"

	"crelvo/internal/core/catalog"
	"crelvo/internal/record"
)

// count is how many rows of a table there are.
func (w *world) count(table string) (n int) {
	w.t.Helper()
	if err := w.GetContext(w.t.Context(), &n, `select count(*) from `+table); err != nil {
		w.t.Fatal(err)
	}
	return n
}

func fine() error { return nil }

// TestAddAtOnce records the files of a publication in the usual way, and nothing where it
// is not usual, or where the bytes are gone.
func TestAddAtOnce(t *testing.T) {
	w := newWorld(t)
	ctx := t.Context()
	gone := errors.New("gone")
	if _, done, err := w.AddAtOnce(ctx, w.file("a", "1", "one", 1, now), func() error { return gone }); done ||
		!errors.Is(err, gone) {
		t.Errorf("without its bytes it is %v, %v", done, err)
	}
	if n := w.count("package") + w.count("version") + w.count("file") + w.count("stored_file"); n != 0 {
		t.Errorf("%d rows are left of it", n)
	}
	first, done, err := w.AddAtOnce(ctx, w.file("a", "1", "one", 1, now), fine)
	if !done || err != nil || first.Visible || first.Same || first.Taken {
		t.Fatalf("the first file: %+v, %v, %v", first, done, err)
	}
	pom := w.file("a", "1", "two", 1, now.Add(time.Second))
	pom.Name, pom.Details = "a-1.pom", catalog.Details{Title: "A", Readme: &catalog.Readme{Text: "Read", Format: "text/plain"}}
	second, done, err := w.AddAtOnce(ctx, pom, fine)
	if !done || err != nil || second.VersionID != first.VersionID || second.Sends != first.Sends+1 {
		t.Fatalf("the second file: %+v after %+v, %v, %v", second, first, done, err)
	}
	before := w.count("file")
	other := w.file("a", "1", "three", 1, now)
	other.Name, other.Details = "a-1.txt", catalog.Details{Title: "another"}
	stranger := w.file("a", "1", "four", 2, now)
	stranger.Name = "a-1.sources"
	whole := w.file("a", "1", "five", 1, now)
	whole.Name, whole.Afresh = "a-1.zip", true
	for what, f := range map[string]record.NewFile{
		"the same name again": w.file("a", "1", "one", 1, now), "with more to put together": other,
		"by somebody else": stranger, "as a whole over what is open": whole,
	} {
		if _, done, err := w.AddAtOnce(ctx, f, fine); done || err != nil {
			t.Errorf("%s: %v, %v", what, done, err)
		}
	}
	if n := w.count("file"); n != before {
		t.Errorf("%d files were recorded all the same", n-before)
	}
	open, files, err := w.OpenAtOnce(ctx, w.repo.Key("maven", "example.skerry.berth", "a"))
	if err != nil || len(open) != 1 || open[0].ID != first.VersionID || open[0].Sends != second.Sends ||
		open[0].Repository != "releases" || open[0].PackageKey().Name != "a" || len(files[first.VersionID]) != 2 {
		t.Errorf("there is open %+v with %+v, %v", open, files, err)
	}

	event := record.Event{At: now, Action: "published", Subject: "a"}
	change := record.Change{Kind: record.OfPackage, Name: "a"}
	var heard []string
	w.OnChange(func(c record.Change) { heard = append(heard, c.Name) })
	for _, c := range []struct {
		sends int
		done  bool
	}{{first.Sends, false}, {second.Sends, true}, {second.Sends, false}} {
		if done, err := w.CompleteAtOnce(ctx, first.VersionID, c.sends, now, event, change); done != c.done || err != nil {
			t.Errorf("with %d files it is completed: %v, %v", c.sends, done, err)
		}
	}
	if n := w.count("unsealed"); n != 1 {
		t.Errorf("%d events tell of it", n)
	}
	if !slices.Contains(heard, "a") {
		t.Error("nobody hears of it")
	}
	if readme, err := w.Readme(ctx, first.VersionID); err != nil || readme.Text != "Read" {
		t.Errorf("its readme is %+v, %v", readme, err)
	}
	if _, done, err := w.AddAtOnce(ctx, w.file("a", "1", "late", 1, now), fine); done || err != nil {
		t.Errorf("to what is complete: %v, %v", done, err)
	}
}

// TestPublishAtOnce publishes a version of one file, with its labels, or nothing of it.
func TestPublishAtOnce(t *testing.T) {
	w := newWorld(t)
	ctx := t.Context()
	whole := func(version string, labels ...string) record.Whole {
		f := w.file("a", version, "content of "+version, 1, now)
		f.Afresh = true
		return record.Whole{File: f, Labels: labels, Event: record.Event{At: now, Action: "published", Subject: version},
			Changes: []record.Change{{Kind: record.OfPackage, Name: "a"}}}
	}
	gone := errors.New("gone")
	done, err := w.PublishAtOnce(ctx, whole("1", "latest"), func() error { return gone })
	if done || !errors.Is(err, gone) {
		t.Errorf("without its bytes it is %v, %v", done, err)
	}
	if n := w.count("package") + w.count("label") + w.count("unsealed"); n != 0 {
		t.Errorf("%d rows are left of it", n)
	}
	for _, c := range []struct {
		version string
		done    bool
	}{{"1", true}, {"2", true}, {"1", false}} {
		if done, err := w.PublishAtOnce(ctx, whole(c.version, "latest", "next"), fine); done != c.done || err != nil {
			t.Errorf("%s: %v, %v", c.version, done, err)
		}
	}
	known, err := w.Package(ctx, w.repo.Key("maven", "example.skerry.berth", "a"), record.Known{})
	if err != nil || len(known.Package.Versions) != 2 {
		t.Fatalf("there is %+v, %v", known.Package, err)
	}
	var told []string
	if err := w.EachEvent(ctx, record.EventFilter{OldestFirst: true}, func(e record.SealedEvent) error {
		told = append(told, e.Subject)
		return nil
	}); err != nil || !slices.Equal(told, []string{"1", "2"}) {
		t.Errorf("the activity record has %q, %v", told, err)
	}
	var labels []string
	if err := w.SelectContext(ctx, &labels, `select name || ' ' || version from label where visible_until is null
		order by 1`); err != nil || !slices.Equal(labels, []string{"latest 2", "next 2"}) {
		t.Errorf("the labels are %q, %v", labels, err)
	}
}
