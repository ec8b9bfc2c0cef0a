package helm

import (
	"strings"
	"testing"

	"crelvo/internal/ecosystem"
)

// TestImageReferences: exact references to images that are promoted too change, however
// charts write them, and no others.
func TestImageReferences(t *testing.T) {
	const was, is = "sha256:aaaa", "sha256:bbbb"
	images := []ecosystem.Relabelled{{Name: "berth-planner", From: "1.5.0-dev.7", To: "1.5.0", FromVersion: was,
		ToVersion: is, FromRepository: "snapshots", ToRepository: "releases"},
		{Namespace: "skerry", Name: "fares", From: "v2-dev.1", To: "v2", FromVersion: was, ToVersion: was,
			FromRepository: "snapshots", ToRepository: "releases"}}
	for _, c := range []struct{ before, after string }{
		{"image: p.example/snapshots/berth-planner:1.5.0-dev.7", "image: p.example/releases/berth-planner:1.5.0"},
		{"image: p.example:5000/platform/berth-planner:1.5.0-dev.7", "image: p.example:5000/platform/berth-planner:1.5.0"},
		{"image: p.example/snapshots/berth-planner@" + was, "image: p.example/releases/berth-planner@" + is},
		{"image: 'p.example/snapshots/berth-planner:1.5.0-dev.7@" + was + "'",
			"image: 'p.example/releases/berth-planner:1.5.0@" + is + "'"},
		{"a:\n  repository: p.example/snapshots/berth-planner\n  tag: \"1.5.0-dev.7\" # ours",
			"a:\n  repository: p.example/releases/berth-planner\n  tag: \"1.5.0\" # ours"},
		{"a: {registry: p.example, repository: snapshots/skerry/fares, tag: v2-dev.1, digest: \"" + was + "\"}",
			"a: {registry: p.example, repository: releases/skerry/fares, tag: v2, digest: \"" + was + "\"}"},
		{"a:\n- image: images.example/skerry/fares:v2-dev.1", "a:\n- image: images.example/skerry/fares:v2"},
		{"repository: berth-planner\ndigest: " + was, "repository: berth-planner\ndigest: " + is},
		// These are of other images, or not exact.
		{"image: p.example/snapshots/berth-planner:1.5.0-dev.8", ""}, {"image: p.example/snapshots/berth-planner", ""},
		{"image: p.example/snapshots/other/berth-planner/x:1.5.0-dev.7", ""}, {"version: 1.5.0-dev.7", ""},
		{"image: p.example/snapshots/not-berth-planner:1.5.0-dev.7", ""}, {"tag: 1.5.0-dev.7", ""},
		{"repository: berth-planner\ntag: 1.5.0-dev.7\ndigest: sha256:cccc", ""}, {"repository: berth-planner", ""},
		{"image: a/b/c/d/berth-planner:1.5.0-dev.7", ""}, {"note: berth-planner:1.5.0-dev.7 is used", ""}} {
		if c.after == "" {
			c.after = c.before
		}
		places, err := ecosystem.ParseYAMLPlaces([]byte(c.before))
		if err != nil {
			t.Fatalf("%s: %v", c.before, err)
		}
		got, shift := c.before, 0
		for _, p := range places {
			if stated, ok := imageIn(p, images); ok {
				text := p.Quoted(stated.Becomes)
				got = got[:p.From+shift] + text + got[p.To+shift:]
				shift += len(text) - (p.To - p.From)
			}
		}
		if strings.TrimSpace(got) != c.after {
			t.Errorf("%s\nbecomes\n%s\nwant\n%s", c.before, got, c.after)
		}
	}
}
