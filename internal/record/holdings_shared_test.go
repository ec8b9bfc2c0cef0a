package record

import (
	"encoding/json"
	"fmt"
	"reflect"
	"testing"
	"unsafe"

	"crelvo/internal/core/catalog"
)

// TestSharing: details are read as they were written, and what some say alike they share.
func TestSharing(t *testing.T) {
	var alike sharing
	var all []catalog.Details
	for i := range 60 {
		want := catalog.Details{Description: "Tides, told ahead", Licences: []catalog.Licence{{Name: "MIT"}},
			Authors: []string{"Deck Hands"}, Dependencies: []catalog.Dependency{
				{PURL: "pkg:npm/kelp", Version: fmt.Sprint("^", i%2)}, {PURL: "pkg:npm/gull", Scope: "dev"}},
			Native: map[string]json.RawMessage{"dist": json.RawMessage(fmt.Sprint(`{"files":`, i%3, `}`))}}
		if i%5 == 0 {
			want.Dependencies, want.Native = nil, nil
		}
		raw, err := json.Marshal(want)
		if err != nil {
			t.Fatal(err)
		}
		got, err := alike.read(raw)
		if err != nil || !reflect.DeepEqual(got, want) {
			t.Fatalf("%d: %+v, %v; want %+v", i, got, err, want)
		}
		all = append(all, got)
	}
	a, b, c := all[1], all[7], all[4]
	if &a.Dependencies[0] != &b.Dependencies[0] || &a.Native["dist"][0] != &b.Native["dist"][0] ||
		unsafe.StringData(a.Description) != unsafe.StringData(b.Description) {
		t.Error("what is alike is there twice")
	}
	if &a.Dependencies[0] == &c.Dependencies[0] ||
		unsafe.StringData(a.Dependencies[0].PURL) != unsafe.StringData(c.Dependencies[0].PURL) {
		t.Error("lists that differ share more, or less, than the texts in them")
	}
	if _, err := alike.read([]byte(`{"title":`)); err == nil {
		t.Error("what is cut was read")
	}
}
