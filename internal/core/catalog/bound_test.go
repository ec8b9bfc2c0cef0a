package catalog

import (
	"encoding/json"
	"strings"
	"testing"
	"unicode/utf8"
)

func TestBounded(t *testing.T) {
	long := strings.Repeat("ä\x00\u202e", 100_000)
	many := make([]Dependency, 50_000)
	for i := range many {
		many[i] = Dependency{PURL: "pkg:npm/x", Version: long}
	}
	d := Details{Title: long, Description: long, Homepage: "javascript:alert(1)", Source: "https://skerry.example/" + long,
		Packaging: long, Parent: long, PluginPrefix: long,
		Licences: []Licence{{Name: long, URL: "data:text/html,x"}}, Authors: []string{long}, Dependencies: many,
		Readme: &Readme{Text: strings.Repeat("y", 1<<20), Format: long}}.Bounded()
	raw, err := json.Marshal(d)
	if err != nil || len(raw) > 2<<20 || !utf8.Valid(raw) || strings.Contains(string(raw), `\u0000`) ||
		strings.Contains(string(raw), "javascript") || strings.Contains(string(raw), "data:") {
		t.Errorf("%d bytes, %v", len(raw), err)
	}
	if len(d.Readme.Text) != MaxReadme || len(d.Dependencies) != maxDependencies || d.Homepage != "" || d.Source == "" {
		t.Errorf("%d of README, %d dependencies, %q, %.30q", len(d.Readme.Text), len(d.Dependencies), d.Homepage, d.Source)
	}
	plain := Details{Title: "Tide model", Description: "Tides\nas they come", Homepage: "https://skerry.example/",
		Licences: []Licence{}, Authors: []string{"Deck Hands"}}
	if got, want := done(json.Marshal(plain.Bounded())), done(json.Marshal(plain)); got != want {
		t.Errorf("%s; want %s", got, want)
	}
	if _, tooMuch := (Details{Native: map[string]json.RawMessage{"x": make([]byte, maxNative+1)}}).NativeSize(); !tooMuch {
		t.Error("nothing is too much")
	}
}

func done(raw []byte, err error) string {
	if err != nil {
		return err.Error()
	}
	return string(raw)
}
