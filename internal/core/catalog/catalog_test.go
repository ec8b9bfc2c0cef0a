package catalog

import (
	"encoding/hex"
	"encoding/json"
	"reflect"
	"strings"
	"testing"
	"time"
)

func TestTakes(t *testing.T) {
	for holds, want := range map[Holds][2]bool{Snapshots: {true, false}, Releases: {false, true}, Both: {true, true}} {
		if holds.Takes(true) != want[0] || holds.Takes(false) != want[1] {
			t.Errorf("%s takes snapshots %v and releases %v", holds, holds.Takes(true), holds.Takes(false))
		}
	}
}

func TestNames(t *testing.T) {
	r := Repository{ID: 7, Name: "releases", Sight: "part"}
	if key := r.Key("npm", "@skerry", "deck-ui"); r.At() != "releases" ||
		key != (PackageKey{RepositoryID: 7, Sight: "part", Ecosystem: "npm", Namespace: "@skerry", Name: "deck-ui"}) {
		t.Errorf("%+v", key)
	}
	_, at, err := SplitMoment("releases@2026-11-01", time.Date(2026, 11, 27, 0, 0, 0, 0, time.UTC))
	if r.AsOf = at; err != nil || r.At() != "releases@2026-11-01T00:00:00Z" || r.Key("npm", "", "x").AsOf != at {
		t.Errorf("%s, %v", r.At(), err)
	}
	if (Version{Version: "1.0-dev", Upload: "1.0-dev+1"}).Exact() != "1.0-dev+1" ||
		(Version{Version: "1.0"}).Exact() != "1.0" {
		t.Error("the exact name")
	}
}

// TestNewest: the highest of those that are wanted or, if none is, of all; of one version
// the upload that arrived last.
func TestNewest(t *testing.T) {
	at := time.Date(2026, 11, 1, 8, 0, 0, 0, time.UTC)
	p := Package{Versions: []Version{{ID: 1, Version: "1", Arrived: at}, {ID: 2, Version: "3", Arrived: at.Add(time.Hour)},
		{ID: 3, Version: "3", Arrived: at.Add(2 * time.Hour)}, {ID: 4, Version: "2", Arrived: at.Add(3 * time.Hour)}}}
	for _, c := range []struct {
		name   string
		accept func(Version) bool
		want   int64
	}{
		{"all", func(Version) bool { return true }, 3}, {"none is wanted", func(Version) bool { return false }, 3},
		{"the lowest is wanted", func(v Version) bool {
			return v.Version == "1"
		}, 1}, {"not the highest", func(v Version) bool { return v.Version != "3" }, 4},
	} {
		if v := p.Newest(strings.Compare, c.accept); v.ID != c.want {
			t.Errorf("%s: version %d, want %d", c.name, v.ID, c.want)
		}
	}
	if (&Package{}).Newest(strings.Compare, func(Version) bool { return true }) != nil {
		t.Error("nothing has a newest version")
	}
	// Where the time says nothing, the count of the upload does, and then its number.
	a, b := Version{ID: 1, UploadedAt: at, UploadCount: 2}, Version{ID: 2, UploadedAt: at, UploadCount: 1}
	if !a.Newer(b) || b.Newer(a) {
		t.Error("by the count")
	}
	if b.UploadCount = 2; a.Newer(b) || !b.Newer(a) {
		t.Error("by the number")
	}
}

func TestSize(t *testing.T) {
	v := Version{Files: []File{{ID: 1, Digests: Digests{Size: 3}}, {Digests: Digests{Size: 5}},
		{ID: 2, Digests: Digests{Size: 7}}}}
	if v.Size() != 10 {
		t.Errorf("%d bytes; what is only listed does not count", v.Size())
	}
}

// TestMerge: what is known stays, and what is not is taken; every field is thought of.
func TestMerge(t *testing.T) {
	full := func(text string) Details {
		d := Details{Licences: []Licence{{Name: text}}, Authors: []string{text}, Dependencies: []Dependency{{PURL: text}},
			Readme: &Readme{Text: text},
			Native: map[string]json.RawMessage{text: []byte("1"), "both": []byte(`"` + text + `"`)}}
		v := reflect.ValueOf(&d).Elem()
		for i := range v.NumField() {
			if f := v.Field(i); f.Kind() == reflect.String {
				f.SetString(text)
			} else if f.IsZero() {
				t.Fatalf("%s is not filled by this test", v.Type().Field(i).Name)
			}
		}
		return d
	}
	if got := (Details{}).Merge(full("a")); !reflect.DeepEqual(got, full("a")) {
		t.Errorf("from nothing: %+v", got)
	}
	got := full("a").Merge(full("b"))
	want := full("a")
	want.Native["b"] = []byte("1")
	if !reflect.DeepEqual(got, want) {
		t.Errorf("%+v\nwant\n%+v", got, want)
	}
	if got := full("a").Merge(Details{}); !reflect.DeepEqual(got, full("a")) {
		t.Errorf("with nothing: %+v", got)
	}
}

func TestDigests(t *testing.T) {
	var d Digests
	for _, algorithm := range Algorithms {
		h := NewHash(algorithm)
		h.Write([]byte("salt"))
		text := hex.EncodeToString(h.Sum(nil))
		if d.Has(algorithm) || !d.ParseHex(strings.ToUpper(algorithm), text) || d.Hex(algorithm) != text ||
			!d.Has(algorithm) {
			t.Errorf("%s: %s, want %s", algorithm, d.Hex(algorithm), text)
		}
		if d.ParseHex(algorithm, text[2:]) || d.ParseHex(algorithm, strings.Repeat("x", len(text))) {
			t.Errorf("%s: what is no digest was read", algorithm)
		}
		d.ParseHex(algorithm, text)
		other := Digests{}
		if other.Contradicts(d) || d.Contradicts(other) {
			t.Errorf("%s: what is not known contradicts", algorithm)
		}
		other.ParseHex(algorithm, strings.Repeat("0", len(text)-1)+"1")
		if !d.Contradicts(other) || d.Contradicts(d) {
			t.Errorf("%s: another digest does not contradict", algorithm)
		}
	}
	if d.Hex("crc32") != "" || d.Has("crc32") || NewHash("crc32") != nil || d.ParseHex("crc32", "00") {
		t.Error("there is no such algorithm")
	}
}

// TestClean: what an upstream says is bounded, and what has no fit name is left out.
func TestClean(t *testing.T) {
	long := strings.Repeat("x", 5<<10)
	details := Details{Title: "a\x00b"}
	l := Listing{Versions: []ListedVersion{
		{Version: "1.0", Details: &details, Withdrawn: &Withdrawal{Reason: "be\x1bware", By: "x\n"},
			Files: []ListedFile{{Name: "a.jar", Address: "https://h/a"}, {Name: "../b"}, {Name: "c", Address: long},
				{Name: "d", Extension: "\x00"}}},
		{Version: ""}, {Version: long}, {Version: "2\x00"}, {Version: "3", Upload: "\x00"}},
		Plugins: []ListedPlugin{{Name: "a"}, {Name: "b\x00"}}, Labels: map[string]string{"latest": "1.0", "b\x00": "1.0"}}
	l.Clean()
	if len(l.Versions) != 1 || len(l.Versions[0].Files) != 1 || len(l.Plugins) != 1 || len(l.Labels) != 1 {
		t.Fatalf("%+v", l)
	}
	if v := l.Versions[0]; strings.ContainsAny(v.Details.Title+v.Withdrawn.Reason+v.Withdrawn.By, "\x00\x1b\n") ||
		details.Title != "a\x00b" {
		t.Errorf("%+v", v)
	}
	if WebOnly("https://h/") != "https://h/" || WebOnly("javascript:x") != "" {
		t.Error("addresses of the web")
	}
}

func TestWhatAKindCanDo(t *testing.T) {
	for _, test := range []struct {
		kind                        Kind
		holds                       Holds
		own, fetches, gathers       bool
		takesRelease, takesSnapshot bool
	}{
		{House, Both, true, false, false, true, true},
		{House, Releases, true, false, false, true, false},
		{House, Snapshots, true, false, false, false, true},
		{Mirror, Both, false, true, false, false, false},
		{Chain, Both, false, false, true, false, false},
	} {
		r := Repository{Kind: test.kind, Holds: test.holds}
		if r.Own() != test.own || r.Fetches() != test.fetches || r.Gathers() != test.gathers ||
			r.Accepts(false) != test.takesRelease || r.Accepts(true) != test.takesSnapshot {
			t.Errorf("a %s that holds %s: own %v, fetches %v, gathers %v, accepts releases %v and snapshots %v",
				r.Kind, r.Holds, r.Own(), r.Fetches(), r.Gathers(), r.Accepts(false), r.Accepts(true))
		}
	}
}
