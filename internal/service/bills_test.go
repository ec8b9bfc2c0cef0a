package service

import (
	"encoding/base64"
	"fmt"
	"slices"
	"strings"
	"testing"

	"crelvo/internal/ecosystem/madeup"
	"crelvo/internal/record/recordtest"
	"crelvo/internal/service/safety"
)

// spdxOf is a bill of materials that names packages.
func spdxOf(purls ...string) string {
	var packages []string
	for _, p := range purls {
		packages = append(packages, fmt.Sprintf(`{"name":"x","externalRefs":[{"referenceCategory":"PACKAGE-MANAGER",
			"referenceType":"purl","referenceLocator":%q}]}`, p))
	}
	return `{"spdxVersion":"SPDX-2.3","packages":[` + strings.Join(packages, ",") + `]}`
}

// TestInside: what images have inside is told by the bills of materials that come with them, in every
// form that is usual, and an advisory about that is about the image.
func TestInside(t *testing.T) {
	n := newNode(t, recordtest.URL(t))
	ctx := t.Context()
	r, key := n.images(t)
	push := func(i madeup.Image, tags ...string) {
		t.Helper()
		if err := n.sendParts(t, key, i); err != nil {
			t.Fatal(err)
		}
		if err := n.push(t, r, i, tags...); err != nil {
			t.Fatal(err)
		}
	}
	statement := func(about madeup.Image, predicate string) []byte {
		return []byte(`{"_type":"https://in-toto.io/Statement/v1","predicateType":"https://spdx.dev/Document",
			"subject":[{"name":"x","digest":{"sha256":"` + strings.TrimPrefix(madeup.Digest(about.Manifest), "sha256:") + `"}}],"predicate":` + predicate + `}`)
	}
	names := func(all []string) string { slices.Sort(all); return strings.Join(all, " ") }
	affected := func() (all []string) {
		t.Helper()
		if err := n.Bills.Read(ctx); err != nil {
			t.Fatal(err)
		}
		found, _, err := n.Safety.Affected(ctx, n.admin)
		if err != nil {
			t.Fatal(err)
		}
		for _, a := range found {
			all = append(all, a.Label+" "+a.Inside.Version+" "+a.Finding.ID)
		}
		return all
	}

	n.imports(t, osvRecord("ISLE-1", "npm", "kelp", "1.4.0", "2026-11-01T08:00:00Z", rated))
	plain, quoted, sealed, clean := imageOf("plain"), imageOf("quoted"), imageOf("sealed"), imageOf("clean")
	push(plain, "1.0.0")
	push(quoted, "2.0.0")
	push(sealed, "3.0.0")
	push(clean, "4.0.0")
	push(plain.Referrer("application/spdx+json", "application/spdx+json", []byte(spdxOf("pkg:npm/kelp@1.3.0", "pkg:deb/x@1"))))
	push(clean.Referrer("application/spdx+json", "application/spdx+json", []byte(spdxOf("pkg:npm/kelp@1.4.0", "pkg:npm/kelp@1.0.0%00", "pkg:npm/ke%FFlp@1.0.0"))))
	push(clean.Referrer("application/spdx+json", "application/spdx+json", []byte("no bill at all")))
	// A statement names what it is about by itself, as those do that builders put beside an image.
	beside := quoted.Referrer("", "application/vnd.in-toto+json", statement(quoted, spdxOf("pkg:npm/kelp@1.2.0")))
	beside.Manifest = []byte(strings.Replace(string(beside.Manifest), `"subject"`, `"otherwise"`, 1))
	push(beside)
	envelope := fmt.Sprintf(`{"payloadType":"application/vnd.in-toto+json","payload":%q,"signatures":[]}`,
		base64.StdEncoding.EncodeToString(statement(sealed, `{"bomFormat":"CycloneDX","specVersion":"1.6","components":[
			{"type":"library","purl":"pkg:npm/kelp@1.1.0"}]}`)))
	bill := sealed.Referrer("", "application/vnd.dsse.envelope.v1+json", []byte(envelope))
	push(bill)
	if got, want := names(affected()), "1.0.0 1.3.0 ISLE-1 2.0.0 1.2.0 ISLE-1 3.0.0 1.1.0 ISLE-1"; got != want {
		t.Errorf("affected are %q, not %q", got, want)
	}

	// A later advisory is about what was read before; the page of an advisory has it too.
	n.imports(t, osvRecord("ISLE-2", "npm", "kelp", "1.5.0", "2026-11-02T08:00:00Z", rated))
	d, err := n.Safety.Advisory(ctx, n.admin, "ISLE-2")
	if err != nil || len(d.Kept) != 4 {
		t.Errorf("the later advisory is about %d, %v", len(d.Kept), err)
	}
	for _, id := range []string{"ISLE-1", "ISLE-2"} {
		if _, err := n.Safety.Waive(ctx, n.admin, safety.NewWaiver{Advisory: id, Pattern: "pkg:npm/kelp@1.3.0",
			Reason: "not reached"}); err != nil {
			t.Fatal(err)
		}
	}
	found, _, err := n.Safety.Affected(ctx, n.admin)
	if err != nil {
		t.Fatal(err)
	}
	for _, a := range found {
		if (a.Waiver != nil) != (a.Inside.Version == "1.3.0") {
			t.Errorf("the waiver of %s inside %s is %v", a.Inside.Typed(), a.Label, a.Waiver)
		}
	}

	// What a removed bill said is not said any more.
	if err := n.Retention.Remove(ctx, n.admin, key, []string{madeup.Digest(bill.Manifest)}); err != nil {
		t.Fatal(err)
	}
	for _, line := range affected() {
		if strings.HasPrefix(line, "3.0.0") {
			t.Errorf("still: %s", line)
		}
	}
}
