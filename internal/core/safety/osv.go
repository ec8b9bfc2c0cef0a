package safety

import (
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"crelvo/internal/core/purl"
	"crelvo/internal/core/text"
)

// LargestRecord is how many bytes a record of the OSV format may have.
const LargestRecord = 4 << 20

// What is kept of a record at most.
const (
	mostAffected   = 2000
	mostEvents     = 5000
	mostVersions   = 50_000
	mostReferences = 100
	mostAliases    = 100
)

// ErrForeign is that a record names no package of an ecosystem that is known here.
var ErrForeign = errors.New("it is about no ecosystem that is known here")

// osv is a record as it is written; see https://ossf.github.io/osv-schema/.
type osv struct {
	ID         string        `json:"id"`
	Modified   string        `json:"modified"`
	Published  string        `json:"published"`
	Withdrawn  string        `json:"withdrawn"`
	Aliases    []string      `json:"aliases"`
	Summary    string        `json:"summary"`
	Details    string        `json:"details"`
	Severity   []osvScore    `json:"severity"`
	Affected   []osvAffected `json:"affected"`
	References []struct {
		Type string `json:"type"`
		URL  string `json:"url"`
	} `json:"references"`
	DatabaseSpecific osvOwn `json:"database_specific"`
}

type osvScore struct {
	Type  string `json:"type"`
	Score string `json:"score"`
}

// osvOwn is what a database says besides; only a word for the severity is read of it.
type osvOwn struct{ Severity string }

// UnmarshalJSON takes what has another form as if it were not there.
func (o *osvOwn) UnmarshalJSON(raw []byte) error {
	var any struct {
		Severity json.RawMessage `json:"severity"`
	}
	if json.Unmarshal(raw, &any) == nil {
		_ = json.Unmarshal(any.Severity, &o.Severity) // a database may have a list there
	}
	return nil
}

type osvAffected struct {
	Package struct {
		Ecosystem string `json:"ecosystem"`
		Name      string `json:"name"`
		PURL      string `json:"purl"`
	} `json:"package"`
	Severity []osvScore `json:"severity"`
	Ranges   []struct {
		Type   string              `json:"type"`
		Events []map[string]string `json:"events"`
	} `json:"ranges"`
	Versions []string `json:"versions"`
	Own      osvOwn   `json:"ecosystem_specific"`
	Database osvOwn   `json:"database_specific"`
}

// ParseOSV reads one record of the OSV format. What it says of ecosystems that are not known
// here is left out; if that is all, the error is ErrForeign.
func ParseOSV(raw []byte) (*Advisory, error) {
	if len(raw) > LargestRecord {
		return nil, fmt.Errorf("a record has %d bytes at most, and this one has %d", LargestRecord, len(raw))
	}
	var o osv
	if err := json.Unmarshal(raw, &o); err != nil {
		return nil, fmt.Errorf("it is no record of the OSV format: %w", err)
	}
	if err := text.Check("the id", o.ID, false, 200); err != nil {
		return nil, err
	}
	if o.ID == "" || strings.ContainsAny(o.ID, "/ \\?#%") {
		return nil, errors.New("a record has an id, such as ISLE-2026-0007, without spaces and slashes")
	}
	a := &Advisory{ID: o.ID, Summary: text.Clean(o.Summary, false, 500), Details: text.Clean(o.Details, true, 50_000)}
	var err error
	if a.Modified, err = time.Parse(time.RFC3339, o.Modified); err != nil {
		return nil, fmt.Errorf("%s has no time of its last change: %q", o.ID, o.Modified)
	}
	for _, t := range []struct {
		text string
		to   *time.Time
	}{{o.Published, &a.Published}, {o.Withdrawn, &a.Withdrawn}} {
		if t.text == "" {
			continue
		}
		if *t.to, err = time.Parse(time.RFC3339, t.text); err != nil {
			return nil, fmt.Errorf("%s has a time that is none: %q", o.ID, t.text)
		}
	}
	for _, alias := range o.Aliases[:min(len(o.Aliases), mostAliases)] {
		if alias = text.Clean(alias, false, 200); alias != "" && alias != a.ID && !slices.Contains(a.Aliases, alias) {
			a.Aliases = append(a.Aliases, alias)
		}
	}
	for _, r := range o.References[:min(len(o.References), mostReferences)] {
		if strings.HasPrefix(r.URL, "https://") || strings.HasPrefix(r.URL, "http://") {
			a.References = append(a.References, Reference{Kind: strings.ToLower(text.Clean(r.Type, false, 50)),
				URL: text.Clean(r.URL, false, 2000)})
		}
	}
	a.Rating = rate(o.Severity, o.DatabaseSpecific)
	return a, a.read(o.Affected)
}

// rate is the worst of the vectors; a database's own word counts where there is none.
func rate(scores []osvScore, own ...osvOwn) (worst Rating) {
	for _, s := range scores {
		if r, err := RateCVSS(s.Score); err == nil {
			worst = worst.Or(r)
			continue
		}
		if word, err := ParseSeverity(s.Score); err == nil {
			worst = worst.Or(Rating{Severity: word})
		}
	}
	for _, o := range own {
		if word, err := ParseSeverity(o.Severity); err == nil && worst.Severity == Unknown {
			worst.Severity = word
		}
	}
	return worst
}

// read takes what is said of packages.
func (a *Advisory) read(all []osvAffected) error {
	if len(all) > mostAffected {
		return fmt.Errorf("%s is about %d packages; %d are read at most", a.ID, len(all), mostAffected)
	}
	events, versions := 0, 0
	for _, one := range all {
		p, ok := packageOf(one.Package.PURL, one.Package.Ecosystem, one.Package.Name)
		if !ok {
			continue
		}
		f := Affected{Package: p, Rating: rate(one.Severity, one.Own, one.Database)}
		if versions += len(one.Versions); versions > mostVersions {
			return fmt.Errorf("%s names more than %d versions", a.ID, mostVersions)
		}
		for _, v := range one.Versions {
			if v = text.Clean(v, false, 200); v != "" {
				f.Versions = append(f.Versions, purl.NormalVersion(p.Ecosystem, v))
			}
		}
		for _, r := range one.Ranges {
			if r.Type != "SEMVER" && r.Type != "ECOSYSTEM" {
				continue // commits say nothing of versions
			}
			of := Range{Semver: r.Type == "SEMVER"}
			for _, e := range r.Events {
				for kind, version := range e {
					if EventKind(kind).order() >= 0 && version != "" {
						of.Events = append(of.Events, Event{EventKind(kind), text.Clean(version, false, 200)})
					}
				}
			}
			if events += len(of.Events); events > mostEvents {
				return fmt.Errorf("%s has more than %d events", a.ID, mostEvents)
			}
			of.sort(p.Ecosystem)
			f.Ranges = append(f.Ranges, of)
		}
		a.Affected = append(a.Affected, f)
	}
	if len(a.Affected) == 0 {
		return ErrForeign
	}
	return nil
}

// packageOf is the package that a record names: by its package URL, or by the names that the
// schema gives to ecosystems.
func packageOf(url, ecosystem, name string) (p purl.PURL, ok bool) {
	if url != "" {
		var err error
		if p, err = purl.Parse(url); err == nil && purl.OSVName(p.Ecosystem) != "" {
			p.Version, p.Qualifiers = "", nil
			return p, text.Check("", p.String(), false, 1000) == nil
		}
	}
	ecosystem, _, _ = strings.Cut(ecosystem, ":") // what follows is a release, or an address
	return purl.OfOSV(ecosystem, name)
}
