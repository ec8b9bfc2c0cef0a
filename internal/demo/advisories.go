package demo

import (
	"archive/zip"
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"crelvo/internal/api"
	"crelvo/internal/client"
	"crelvo/internal/core/access"
	"crelvo/internal/service"
	"crelvo/internal/service/safety"
)

// Advisories is where the stand-in has the feed of advisories.
const Advisories = "advisories"

// feedName is what the feed is called.
const feedName = "openshore"

// said is an advisory of the scenario.
type said struct {
	id, alias, ecosystem, name string
	events                     []string
	vector, summary, details   string
	changed, withdrawn         string
}

// shoreSays are the advisories of the scenario; all of it is made up.
var shoreSays = []said{
	{id: "ISLE-2026-0004", ecosystem: "PyPI", name: "moonphase-lite", events: []string{"introduced 0"},
		vector:  "CVSS:3.1/AV:L/AC:H/PR:L/UI:N/S:U/C:N/I:N/A:L",
		summary: "The moon is full a day too early", details: "It turned out to be a matter of time zones.",
		changed: "2026-08-20T09:00:00Z", withdrawn: "2026-08-20T09:00:00Z"},
	{id: "ISLE-2026-0007", alias: "CVE-2026-990007", ecosystem: "npm", name: "kelp-colors",
		events:  []string{"introduced 3.0.0", "fixed 3.1.0"},
		vector:  "CVSS:3.1/AV:N/AC:L/PR:N/UI:N/S:U/C:H/I:N/A:N",
		summary: "A colour can name a file, which is then read",
		details: "`parse()` takes `url(file:…)` for a colour, and gives what is in that file.\n\n" +
			"Take 3.1.0, or refuse brackets in what is given to `parse()`.",
		changed: "2026-09-14T07:30:00Z"},
	{id: "ISLE-2026-0011", alias: "CVE-2026-990011", ecosystem: "Maven", name: "org.openshore:brine-http",
		events:  []string{"introduced 2.0.0", "fixed 2.1.1"},
		vector:  "CVSS:3.1/AV:N/AC:H/PR:N/UI:R/S:U/C:L/I:L/A:N",
		summary: "Headers of one answer can turn up in the next",
		details: "Where a connection is kept, and the server sends trailers that were not announced.",
		changed: "2026-10-02T12:00:00Z"},
	{id: "ISLE-2026-0014", ecosystem: "crates.io", name: "brine-codec", events: []string{"introduced 0", "fixed 0.3.1"},
		vector:  "CVSS:4.0/AV:N/AC:L/AT:N/PR:N/UI:N/VC:N/VI:N/VA:H/SC:N/SI:N/SA:N",
		summary: "A short packet ends the program", details: "A packet of less than four bytes is read past its end.",
		changed: "2026-10-21T08:15:00Z"},
	{id: "MAL-2026-0003", ecosystem: "npm", name: "kelp-colours", events: []string{"introduced 0"},
		summary: "It sends the environment of whoever installs it to a stranger",
		details: "The package imitates kelp-colors. What it does is in its install script.",
		changed: "2026-11-05T16:40:00Z"},
}

// osv is the record of an advisory.
func (s said) osv() []byte {
	var events []map[string]string
	for _, e := range s.events {
		kind, version, _ := strings.Cut(e, " ")
		events = append(events, map[string]string{kind: version})
	}
	record := map[string]any{"schema_version": "1.7.0", "id": s.id, "modified": s.changed, "published": s.changed,
		"summary": s.summary, "details": s.details,
		"references": []any{map[string]string{"type": "ADVISORY", "url": "https://advisories.openshore.example/" + s.id}},
		"affected": []any{map[string]any{"package": map[string]string{"ecosystem": s.ecosystem, "name": s.name},
			"ranges": []any{map[string]any{"type": "ECOSYSTEM", "events": events}}}}}
	if s.alias != "" {
		record["aliases"] = []string{s.alias}
	}
	if s.withdrawn != "" {
		record["withdrawn"] = s.withdrawn
	}
	if s.vector != "" {
		kind := "CVSS_V3"
		if strings.HasPrefix(s.vector, "CVSS:4") {
			kind = "CVSS_V4"
		}
		record["severity"] = []any{map[string]string{"type": kind, "score": s.vector}}
	}
	return must(json.Marshal(record))
}

// advisoryShelf is the feed in the layout in which OSV publishes.
func advisoryShelf(folder string) (Files, error) {
	byEcosystem := map[string][]said{}
	for _, s := range shoreSays {
		byEcosystem[s.ecosystem] = append(byEcosystem[s.ecosystem], s)
	}
	files := Files{}
	for ecosystem, all := range byEcosystem {
		var raw bytes.Buffer
		var lines []string
		archive := zip.NewWriter(&raw)
		for _, s := range all {
			files[folder+ecosystem+"/"+s.id+".json"] = s.osv()
			lines = append(lines, s.changed+","+s.id)
			entry, err := archive.Create(s.id + ".json")
			if err == nil {
				_, err = entry.Write(s.osv())
			}
			if err != nil {
				return nil, err
			}
		}
		if err := archive.Close(); err != nil {
			return nil, err
		}
		slices.Sort(lines)
		slices.Reverse(lines)
		files[folder+ecosystem+"/all.zip"] = raw.Bytes()
		files[folder+ecosystem+"/modified_id.csv"] = []byte(strings.Join(lines, "\n") + "\n")
	}
	return files, nil
}

// warn has the feed read, keeps out of one mirror what is bad, and accepts one advisory.
func warn(ctx context.Context, admin *client.Client, shore string) error {
	if _, err := admin.AddFeed(ctx, api.NewFeed{Name: feedName, Location: shore + Advisories}); err != nil {
		return err
	}
	for {
		feeds, err := admin.Feeds(ctx)
		if err != nil {
			return err
		}
		if f := feeds[0]; !f.Running && f.EndedAt != nil {
			if f.Failure != "" {
				return fmt.Errorf("the feed: %s", f.Failure)
			}
			break
		}
		select {
		case <-time.After(20 * time.Millisecond): // between two looks at the run
		case <-ctx.Done():
			return ctx.Err()
		}
	}
	refuse := "high"
	if _, err := admin.EditRepository(ctx, "shore-cargo", api.RepositoryChange{Refuse: &refuse}); err != nil {
		return err
	}
	until := time.Now().AddDate(0, 0, 21).Truncate(24 * time.Hour)
	_, err := admin.MakeWaiver(ctx, api.NewWaiver{Advisory: "ISLE-2026-0011",
		Pattern: "pkg:maven/org.openshore/brine-http@2.1.0", Until: &until,
		Reason: "no server that we ask sends trailers; the planner moves to 2.1.1 with 1.5.0"})
	return err
}

// moveFeed points the feed at where the stand-in is this time.
func moveFeed(ctx context.Context, s *service.Service, caller access.Caller, shore string) error {
	if err := s.Safety.RemoveFeed(ctx, caller, feedName); err != nil {
		return err
	}
	_, err := s.Safety.AddFeed(ctx, caller, safety.NewFeed{Name: feedName, Location: shore + Advisories})
	return err
}
