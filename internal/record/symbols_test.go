package record_test

import (
	"slices"
	"testing"
	"time"

	"crelvo/internal/core/catalog"
	"crelvo/internal/core/symbols"
	"crelvo/internal/record"
)

// TestSymbolsOfMany: what was found in many versions is noted together, all of it or nothing, and those of several
// packages that are to be looked into are found by one question.
func TestSymbolsOfMany(t *testing.T) {
	w := newWorld(t)
	ctx, now := t.Context(), time.Now()
	var keys []catalog.PackageKey
	for _, name := range []string{"gauge", "berth", "tide"} {
		for _, version := range []string{"1", "2"} {
			f := w.file(name, version, name+version, 1, now)
			w.complete(w.add(f).VersionID, now)
			keys = append(keys, f.Key)
		}
	}
	unlooked := func(of []catalog.PackageKey, after int64) (found []string, last int64) {
		t.Helper()
		all, err := w.UnlookedVersions(ctx, symbols.LookedInto, of, after, 3)
		if err != nil {
			t.Fatal(err)
		}
		for _, v := range all {
			found, last = append(found, v.Key.Name+" "+v.Version), v.ID
		}
		return found, last
	}
	some := []catalog.PackageKey{keys[0], keys[4], {RepositoryID: 99, Ecosystem: "maven", Name: "nothing"}}
	found, last := unlooked(some, 0)
	more, _ := unlooked(some, last)
	if !slices.Equal(slices.Concat(found, more), []string{"gauge 1", "gauge 2", "tide 1", "tide 2"}) {
		t.Errorf("to be looked into: %v, then %v", found, more)
	}
	all, err := w.UnlookedVersions(ctx, symbols.LookedInto, nil, 0, 10)
	if err != nil || len(all) != 6 {
		t.Fatal(len(all), err)
	}
	var looked []record.LookedVersion
	for i, v := range all {
		one := record.LookedVersion{ID: v.ID, Said: "read"}
		if i%2 == 0 {
			one.Symbols = []symbols.At{{Symbol: symbols.Symbol{Format: symbols.ELF, Key: v.Key.Name + v.Version, Code: true},
				File: "a.so", Size: int64(i)}}
		}
		if i == 1 || i == 3 { // the same paths are kept once
			one.Names = []string{"lib/a.so", "README"}
		}
		looked = append(looked, one)
	}
	gone := record.LookedVersion{ID: 1 << 40, Said: "it is gone"}
	if err := w.Within(ctx, func(tx *record.Tx) error {
		return tx.SetSymbols(ctx, append(slices.Clone(looked), gone), now)
	}); err == nil {
		t.Error("what was found in a version that is gone was noted")
	}
	w.within(func(tx *record.Tx) error { return tx.SetSymbols(ctx, looked, now) })
	if left, _ := unlooked(nil, 0); left != nil {
		t.Errorf("still to be looked into: %v", left)
	}
	for key, want := range map[string]int{"gauge1": 1, "gauge2": 0, "tide1": 1} {
		got, err := w.Symbols(ctx, record.SymbolQuestion{Key: key}, record.Scope{Repositories: []int64{w.repo.ID}}, 0, 10)
		if err != nil || len(got) != want {
			t.Errorf("%s: %+v, %v", key, got, err)
		}
	}
}
