package npm

import (
	"cmp"
	"compress/gzip"
	"context"
	"encoding/json"
	"fmt"
	"hash/fnv"
	"io"
	"net/http"
	"slices"
	"strings"

	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/safety"
	"crelvo/internal/ecosystem"
)

const (
	// largestAudit is how many bytes the list of packages of an audit may have, unpacked.
	largestAudit = 32 << 20
	// mostAudited is how many versions it may name.
	mostAudited = 100_000
	// mostExact is how many versions are named one by one as what an advisory is about.
	mostExact = 1000
)

// auditBody reads what an audit asks, which the clients send compressed.
func auditBody(c *ecosystem.Call, into any) error {
	body := io.Reader(c.Request().Body)
	if c.Request().Header.Get("Content-Encoding") == "gzip" {
		unpacked, err := gzip.NewReader(body)
		if err != nil {
			return fault.New(fault.Invalid, "bad-audit", "the list of packages is not compressed as it says").WithCause(err)
		}
		body = unpacked
	}
	raw, err := io.ReadAll(io.LimitReader(body, largestAudit+1))
	switch {
	case err != nil:
		return fault.New(fault.Invalid, "cut-upload", "the list of packages did not arrive whole").WithCause(err)
	case len(raw) > largestAudit:
		return fault.New(fault.Invalid, "too-large", "the list of packages has more than %d bytes", largestAudit)
	}
	if err := json.Unmarshal(raw, into); err != nil {
		return fault.New(fault.Invalid, "bad-audit", "the list of packages cannot be read").WithCause(err)
	}
	return nil
}

// errNothingKnown is that there are no advisories: to say that no package has one would be
// a false all-clear. npm shows it to who asks for an audit, and leaves the line out after
// an installation.
func errNothingKnown() *fault.Error {
	return fault.New(fault.NotFound, "no-advisories",
		"whether these packages have known vulnerabilities is not known here: nothing was looked up").
		WithHint("Whoever looks after this server can add a feed of advisories: crelvo advisory feed add.")
}

// advised is what is known of the packages of an audit, by their names.
func advised(ctx context.Context, c *ecosystem.Call, versions map[string][]string) (map[string]safety.Advice, error) {
	desk, ok := c.Desk.(ecosystem.Adviser)
	if !ok {
		return nil, errNothingKnown()
	}
	names := map[catalog.PackageKey]string{}
	var keys []catalog.PackageKey
	count := 0
	for name, all := range versions {
		scope, base, ok := splitName(name)
		if count += len(all); count > mostAudited {
			return nil, fault.New(fault.Invalid, "too-many", "an audit names %d versions at most", mostAudited)
		}
		if ok {
			key := catalog.PackageKey{Ecosystem: Name, Namespace: scope, Name: base}
			names[key] = name
			keys = append(keys, key)
		}
	}
	found, known, err := desk.Advised(ctx, keys)
	if err != nil {
		return nil, err
	}
	if !known {
		return nil, errNothingKnown()
	}
	all := map[string]safety.Advice{}
	for key, advice := range found {
		all[names[key]] = advice
	}
	return all, nil
}

// standing lists what is to be told of a package of which those versions are used, without
// one advisory twice, and of which of them.
func standing(a safety.Advice, versions []string) (all []safety.Known, of map[string][]string) {
	of = map[string][]string{}
	for _, v := range versions {
		for _, k := range a.Standing(v) {
			if of[k.ID] == nil {
				all = append(all, k)
			}
			of[k.ID] = append(of[k.ID], v)
		}
	}
	return all, of
}

// auditNumber is a number for an advisory, which the clients want.
func auditNumber(id string) uint32 {
	h := fnv.New32a()
	h.Write([]byte(id))
	return h.Sum32()
}

// auditWord is how bad something is in the words of npm. What nobody rated is taken for
// moderate, so that it is seen.
func auditWord(k safety.Known) string {
	switch rating := k.Finding().Rating; {
	case safety.Malicious(k.ID):
		return "critical"
	case rating.Severity == safety.None:
		return "info"
	case rating.Severity == safety.Medium || rating.Severity == safety.Unknown:
		return "moderate"
	default:
		return rating.Severity.String()
	}
}

// auditRange writes the versions that an advisory is about as npm writes ranges
// (https://github.com/npm/node-semver#ranges).
func auditRange(k safety.Known) string {
	var all []string
	for _, r := range k.Ranges {
		for _, s := range r.Stretches() {
			var ends []string
			if s.From != "" {
				ends = append(ends, ">="+s.From)
			}
			switch {
			case s.ToIt:
				ends = append(ends, "<="+s.To)
			case s.To != "":
				ends = append(ends, "<"+s.To)
			}
			all = append(all, cmp.Or(strings.Join(ends, " "), "*"))
		}
	}
	all = append(all, k.Versions[:min(len(k.Versions), mostExact)]...)
	return strings.Join(all, " || ")
}

// audit answers which of the versions that a project uses have advisories, as npm asks
// (POST /-/npm/v1/security/advisories/bulk: versions by name).
func (NPM) audit(c *ecosystem.Call) error {
	var versions map[string][]string
	if err := auditBody(c, &versions); err != nil {
		return err
	}
	all, err := advised(c.Request().Context(), c, versions)
	if err != nil {
		return err
	}
	type answer struct {
		ID       uint32         `json:"id"`
		URL      string         `json:"url"`
		Title    string         `json:"title"`
		Severity string         `json:"severity"`
		Versions string         `json:"vulnerable_versions"`
		CWE      []string       `json:"cwe"`
		CVSS     map[string]any `json:"cvss"`
	}
	found := map[string][]answer{}
	for name, advice := range all {
		told, _ := standing(advice, versions[name])
		for _, k := range told {
			rating := k.Finding().Rating
			found[name] = append(found[name], answer{auditNumber(k.ID), c.AdvisoryPage(k.ID), auditTitle(k), auditWord(k),
				auditRange(k), []string{}, map[string]any{"score": rating.Score, "vectorString": rating.Vector}})
		}
	}
	return c.JSON(http.StatusOK, found)
}

func auditTitle(k safety.Known) string {
	if k.Summary == "" {
		return k.ID
	}
	return k.Summary + " (" + k.ID + ")"
}

// needed is a package in the tree that older clients send.
type needed struct {
	Version      string             `json:"version"`
	Dependencies map[string]*needed `json:"dependencies"`
}

// deepest is how deep such a tree may be.
const deepest = 200

// collect gathers the versions of a tree, and one way to each.
func (n *needed) collect(versions map[string][]string, ways map[string]string, way []string) error {
	if len(way) > deepest {
		return fault.New(fault.Invalid, "bad-audit", "the tree of packages is deeper than %d", deepest)
	}
	for name, d := range n.Dependencies {
		if d == nil {
			continue
		}
		to := append(slices.Clip(way), name)
		if at := name + "@" + d.Version; ways[at] == "" {
			if len(ways) > mostAudited {
				return fault.New(fault.Invalid, "too-many", "an audit names %d versions at most", mostAudited)
			}
			ways[at] = strings.Join(to, ">")
			versions[name] = append(versions[name], d.Version)
		}
		if err := d.collect(versions, ways, to); err != nil {
			return err
		}
	}
	return nil
}

// olderAudit is audit as pnpm, yarn and older clients ask: with the tree of what a project
// uses. pnpm takes 404 for a server without advisories, and says so in words of its own.
func (NPM) olderAudit(c *ecosystem.Call) error {
	var project needed
	if err := auditBody(c, &project); err != nil {
		return err
	}
	versions, ways := map[string][]string{}, map[string]string{}
	if err := project.collect(versions, ways, nil); err != nil {
		return err
	}
	all, err := advised(c.Request().Context(), c, versions)
	if f := fault.Of(err); err != nil && f.Code == "no-advisories" {
		f.Kind = fault.Invalid
		return f
	}
	if err != nil {
		return err
	}
	counts := map[string]int{"info": 0, "low": 0, "moderate": 0, "high": 0, "critical": 0}
	advisories := map[string]any{}
	for name, advice := range all {
		told, of := standing(advice, versions[name])
		for _, k := range told {
			var findings []any
			for _, v := range of[k.ID] {
				findings = append(findings, map[string]any{"version": v, "paths": []string{ways[name+"@"+v]}})
			}
			counts[auditWord(k)] += len(findings)
			id := auditNumber(k.ID)
			advisories[fmt.Sprint(id)] = auditAdvisory(c, name, k, findings)
		}
	}
	return c.JSON(http.StatusOK, map[string]any{"actions": []any{}, "advisories": advisories, "muted": []any{},
		"metadata": map[string]any{"vulnerabilities": counts, "dependencies": len(ways), "devDependencies": 0,
			"optionalDependencies": 0, "totalDependencies": len(ways)}})
}

// auditAdvisory is an advisory in the form of older clients.
func auditAdvisory(c *ecosystem.Call, name string, k safety.Known, findings []any) map[string]any {
	patched, advice := "<0.0.0", "No version is named that is mended."
	if fixed := k.FixedIn(); len(fixed) > 0 {
		patched = ">=" + strings.Join(fixed, " || >=")
		advice = "Upgrade to version " + fixed[len(fixed)-1] + " or later"
	}
	cves := []string{}
	for _, alias := range k.Aliases {
		if strings.HasPrefix(alias, "CVE-") {
			cves = append(cves, alias)
		}
	}
	rating := k.Finding().Rating
	return map[string]any{"id": auditNumber(k.ID), "github_advisory_id": k.ID, "title": auditTitle(k), "module_name": name,
		"cves": cves, "cwe": []string{}, "severity": auditWord(k), "vulnerable_versions": auditRange(k),
		"patched_versions": patched, "recommendation": advice, "overview": k.Summary, "url": c.AdvisoryPage(k.ID),
		"references": c.AdvisoryPage(k.ID), "findings": findings, "access": "public", "deleted": nil,
		"found_by": map[string]string{"name": ""},
		"cvss":     map[string]any{"score": rating.Score, "vectorString": rating.Vector}}
}
