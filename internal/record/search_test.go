package record_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"crelvo/internal/core/catalog"
	"crelvo/internal/core/query"
	"crelvo/internal/record"
)

// TestSearchConditions asks every condition, and its opposite, of three versions.
func TestSearchConditions(t *testing.T) {
	w := newWorld(t)
	ctx := t.Context()
	add := func(ecosystem, namespace, name, version string, snapshot bool, publisher int64, at time.Time,
		d catalog.Details) int64 {
		f := w.file(name, version, strings.Repeat("x", 10*int(publisher))+name+version, publisher, at)
		f.Key.Ecosystem, f.Key.Namespace, f.Snapshot, f.Details = ecosystem, namespace, snapshot, d
		id := w.add(f).VersionID
		w.complete(id, at)
		return id
	}
	old, young := now.AddDate(0, 0, -60), now.AddDate(0, 0, -1)
	deck := add("npm", "@skerry", "deck-ui", "2.0.0", false, 1, old,
		catalog.Details{Licences: []catalog.Licence{{Name: "MIT"}}, Authors: []string{"Deck Hands"},
			Dependencies: []catalog.Dependency{{PURL: "pkg:npm/kelp-colors", Version: "^3.0.0"},
				{PURL: "pkg:npm/%40skerry/sail", Version: "1.0.0"}}})
	add("npm", "@skerry", "deck-ui", "2.1.0-dev.7", true, 2, young, catalog.Details{})
	add("pypi", "", "tidecast", "0.6.0", false, 2, young,
		catalog.Details{Licences: []catalog.Licence{{Name: "Apache-2.0"}}})
	w.within(func(tx *record.Tx) error {
		key := w.repo.Key("npm", "@skerry", "deck-ui")
		if err := tx.SetLabel(ctx, key, "latest", "2.0.0", "x", now); err != nil {
			return err
		}
		if err := tx.Withdraw(ctx, w.repo.Key("pypi", "", "tidecast"), []string{"0.6.0"}, []string{"wrong moon"}, "x",
			now); err != nil {
			return err
		}
		return tx.CountDownloads(ctx, record.Downloads{VersionIDs: []int64{deck}, Days: []time.Time{now},
			Clients: []string{"npm"}, Whos: []string{"nobody"},
			Counts: []int64{7}, Lasts: []time.Time{now.AddDate(0, 0, -10)}})
	})
	const release, snapshot, tide = "deck-ui 2.0.0", "deck-ui 2.1.0-dev.7", "tidecast 0.6.0"
	for text, want := range map[string][]string{
		"":                            {snapshot, tide},
		"deck":                        {snapshot},
		"holds:releases":              {release, tide},
		"holds:snapshots":             {snapshot},
		"-holds:snapshots deck":       {release},
		"age:>30d":                    {release},
		"age:<30d":                    {snapshot, tide},
		"downloads:7":                 {release},
		"downloads:0":                 {snapshot, tide},
		"downloads:>=8":               nil,
		"used:<20d":                   {release},
		"used:>20d":                   nil,
		"-used:<1y":                   {snapshot, tide},
		"licence:mit":                 {release},
		"licence:Apache-*":            {tide},
		"author:*hands":               {release},
		"needs:kelp-colors":           {release},
		"needs:pkg:npm/kelp-*":        {release},
		"needs:pkg:npm/@skerry/sail":  {release},
		"needs:pkg:npm/%40skerry/s*":  {release},
		"needs:@skerry/sail":          {release},
		"-needs:kelp-colors deck":     {snapshot},
		"label:latest":                {release},
		"withdrawn:yes":               {tide},
		"withdrawn:no":                {snapshot},
		"by:publisher-2 deck":         {snapshot},
		"version:2.0.*":               {release},
		"ecosystem:pypi":              {tide},
		"-ecosystem:pypi":             {snapshot},
		"namespace:@skerry":           {snapshot},
		"name:tide*":                  {tide},
		"pkg:npm/@skerry/*":           {snapshot},
		"pkg:npm/@skerry/*@2.0.0":     {release},
		"pkg:*/*@*-dev*":              {snapshot},
		"pkg:pypi/Tide_Cast":          nil,
		"pkg:pypi/TideCast":           {tide},
		"size:>20 deck":               {snapshot},
		"size:>1GiB":                  nil,
		"deck holds:releases age:<3d": nil,
		"kelp":                        nil,
	} {
		q, err := query.Parse(text)
		if err != nil {
			t.Errorf("%s: %v", text, err)
			continue
		}
		found, err := w.Search(ctx, record.Scope{Repositories: []int64{w.repo.ID}}, q, now, 10, 0)
		if err != nil {
			t.Errorf("%s: %v", text, err)
		}
		var got []string
		for _, f := range found {
			got = append(got, fmt.Sprintf("%s %s", f.Name, f.Latest))
		}
		slices.Sort(got)
		slices.Sort(want)
		if !slices.Equal(got, want) {
			t.Errorf("%q finds %q; want %q", text, got, want)
		}
	}
}

// TestSearchLongLicences finds a licence behind so many others that no index has it.
func TestSearchLongLicences(t *testing.T) {
	w := newWorld(t)
	var many []catalog.Licence
	for i := range 20 {
		many = append(many, catalog.Licence{Name: fmt.Sprint("A licence with a long name, number ", i)})
	}
	for name, licences := range map[string][]catalog.Licence{"long": append(many, catalog.Licence{Name: "Tidal-1.0"}),
		"short": {{Name: "MIT"}}, "none": nil} {
		f := w.file(name, "1.0", name, 1, now)
		f.Details.Licences = licences
		w.complete(w.add(f).VersionID, now)
	}
	for text, want := range map[string]string{"licence:tidal*": "long", "licence:MIT": "short", "licence:M": "",
		"licence:*number?7*": "", "licence:*number*": "long"} {
		q, err := query.Parse(text)
		if err != nil {
			t.Fatal(err)
		}
		found, err := w.Search(t.Context(), record.Scope{Repositories: []int64{w.repo.ID}}, q, now, 10, 0)
		if err != nil {
			t.Fatal(err)
		}
		got := ""
		for _, f := range found {
			got += f.Name
		}
		if got != want {
			t.Errorf("%s finds %q; want %q", text, got, want)
		}
	}
}
