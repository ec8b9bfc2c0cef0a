package nuget

import (
	"strings"
	"testing"
	"time"
)

func TestFilter(t *testing.T) {
	e := &listed{facts: facts{ID: "Skerry.TurnstileLink", Title: "Turnstiles", Tags: []string{"gates", "boats"}},
		version: "1.5.0-dev.7", description: "It's a link",
		published: time.Date(2026, 11, 1, 8, 0, 0, 0, time.UTC), downloads: 7, absolute: true}
	for filter, want := range map[string]bool{
		"":                                true,
		"IsAbsoluteLatestVersion":         true,
		"IsLatestVersion":                 false,
		"IsLatestVersion or IsPrerelease": true,
		"not IsLatestVersion and IsPrerelease eq true":       true,
		"IsPrerelease eq false":                              false,
		"tolower(Id) eq 'skerry.turnstilelink'":              true,
		"Id eq 'skerry.turnstilelink'":                       false,
		"substringof('turnstile', tolower(Id))":              true,
		"startswith(Id,'Skerry.') and endswith(Id,'Link')":   true,
		"Description eq 'It''s a link'":                      true,
		"(DownloadCount gt 5) and (DownloadCount le 7)":      true,
		"DownloadCount lt -1":                                false,
		"DownloadCount gt -9223372036854775807":              true,
		"Published ge datetime'2026-10-01T00:00:00'":         true,
		"Published gt datetime'2026-12-01T00:00:00Z'":        false,
		"substringof(' boats ',Tags)":                        true,
		"((Id ne null) and (Version eq '1.5.0-dev.7'))":      true,
		"indexof(tolower(Title),'stile') gt 0":               true,
		"Id eq 5":                                            false,
		"substringof('x',concat(Id,'x')) and Listed eq true": true,
	} {
		c, err := parseFilter(filter)
		if err != nil || c.fits(e) != want {
			t.Errorf("%s: %v; want %v", filter, err, want)
		}
	}
	for _, filter := range []string{"Colour eq 'blue'", "Id eq 'x", "Id eq", "(Id eq 'x'", "not", "substringof('x')",
		"drop(Id)", "Id eq 'x' Id", "Published gt datetime'soon'",
		"&&", strings.Repeat("(", 100), strings.Repeat("not ", 100) + "true", strings.Repeat("a", 5000)} {
		if _, err := parseFilter(filter); err == nil {
			t.Errorf("%.60s was read", filter)
		}
	}
}

func FuzzFilter(f *testing.F) {
	for _, seed := range []string{"IsLatestVersion", "substringof('x',Id) and not (Version eq '1.0')",
		"Published gt datetime'2026-10-01T00:00:00'", "'"} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, text string) {
		if c, err := parseFilter(text); err == nil {
			c.fits(&listed{version: "1.0"})
		}
	})
}
