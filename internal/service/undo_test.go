package service

import (
	"slices"
	"strings"
	"testing"
	"time"

	"crelvo/internal/core/access"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/purl"
	"crelvo/internal/ecosystem"
	"crelvo/internal/ecosystem/npm"
	"crelvo/internal/record"
	"crelvo/internal/record/recordtest"
	"crelvo/internal/service/promotion"
	"crelvo/internal/service/repositories"
)

// TestUndoAfterARemoval: undoing a promotion of which one version was removed
// meanwhile counts each version away once, and leaves alone what was published anew.
func TestUndoAfterARemoval(t *testing.T) {
	q := newLine(t, recordtest.URL(t))
	other := part(1)
	other.Version = "0.9.0"
	q.npm(t, q.admin, q.releases, other) // an acknowledged release of the same package
	q.npm(t, q.admin, q.snapshots, part(1))
	p, err := q.Promotion.Promote(t.Context(), q.admin,
		promotion.Request{Track: "ferry", PURLs: []string{"pkg:npm/@skerry/part-1@1.0.0-dev.1"}})
	if err != nil || p.State != record.PromotionDone {
		t.Fatalf("%+v, %v", p, err)
	}
	promoted := purl.PURL{Ecosystem: "npm", Namespace: "@skerry", Name: "part-1", Version: "1.0.0"}
	// What was promoted takes nothing more.
	e := npm.New()
	staged, err := q.Store.Stage(t.Context(), catalog.Repository{}, strings.NewReader("attestation"), -1, "part-1-1.0.0.sigstore")
	if err != nil {
		t.Fatal(err)
	}
	defer staged.Discard()
	place := ecosystem.Place{Namespace: "@skerry", Name: "part-1", Version: "1.0.0", FileName: "part-1-1.0.0.sigstore",
		Extension: "sigstore"}
	if _, err := q.Publishing.Publish(t.Context(), q.admin, q.releases, e,
		ecosystem.Publication{Files: []ecosystem.StagedFile{{Place: place, Staged: staged}}}); fault.Of(err).
		Code != "closed" {
		t.Errorf("what was promoted takes more: %v", err)
	}
	if _, err := q.Retention.RemoveVersion(t.Context(), q.admin, "releases", promoted); err != nil {
		t.Fatal(err)
	}
	if p.View, err = q.Promotion.Undo(t.Context(), q.admin, p.ID, "wrong tide"); err != nil ||
		p.State != record.PromotionUndone {
		t.Fatalf("%+v, %v", p, err)
	}
	var versions, visible int
	if err := q.DB.QueryRowContext(t.Context(),
		`select p.versions, (select count(*) from version v where v.package_id = p.id and v.visible_from is not null
			and v.visible_until is null)
		from package p where p.repository_id = $1`, q.releases.ID).Scan(&versions, &visible); err != nil || versions != 1 ||
		visible != 1 {
		t.Errorf("it says %d versions, and has %d: %v", versions, visible, err)
	}
	known, err := q.Resolving.Package(t.Context(), q.releases.Key("npm", "@skerry", "part-1"))
	if err != nil || len(known.Versions) != 1 || known.Versions[0].Version != "0.9.0" {
		t.Errorf("the release that was there before: %+v, %v", known, err)
	}
	if mended, err := q.Retention.VerifyRecords(t.Context(), q.admin); err != nil || len(mended) != 0 {
		t.Errorf("%+v, %v", mended, err)
	}
}

// TestWithdrawnIsNotPromoted without a word.
func TestWithdrawnIsNotPromoted(t *testing.T) {
	q := newLine(t, recordtest.URL(t))
	q.npm(t, q.admin, q.snapshots, part(1))
	withdrawn := purl.PURL{Ecosystem: "npm", Namespace: "@skerry", Name: "part-1", Version: "1.0.0-dev.1"}
	if err := q.Publishing.WithdrawVersion(t.Context(), q.admin, "snapshots", withdrawn, "leaks", false); err != nil {
		t.Fatal(err)
	}
	ask := promotion.Request{Track: "ferry", PURLs: []string{withdrawn.String()}}
	plan, err := q.Promotion.PlanPromotion(t.Context(), q.admin, ask)
	if err != nil || len(plan.Problems) != 1 || !strings.Contains(plan.Problems[0], "is withdrawn: leaks") {
		t.Errorf("the plan: %q, %v", plan.Problems, err)
	}
	if p, err := q.Promotion.Promote(t.Context(), q.admin, ask); err != nil || p.State != record.PromotionFailed ||
		!strings.Contains(p.Why, "is withdrawn") {
		t.Errorf("%s %q, %v", p.State, p.Why, err)
	}
}

// TestRepositoryBack: a repository that was removed comes back whole within its grace,
// to admins, if nothing else has its name and what a chain of it needs is there.
func TestRepositoryBack(t *testing.T) {
	n := newNode(t, recordtest.URL(t))
	ctx := t.Context()
	r := n.repository(t)
	if err := n.publish(t, r, "1.0.0", "tides"); err != nil {
		t.Fatal(err)
	}
	chainOf := repositories.NewRepository{Repository: catalog.Repository{Name: "platform", Kind: catalog.Chain,
		Holds: catalog.Both}, Members: []repositories.NewMember{{Name: "releases"}}}
	if _, err := n.Repositories.AddRepository(ctx, n.admin, chainOf); err != nil {
		t.Fatal(err)
	}
	back := func(caller access.Caller, name, code string) {
		t.Helper()
		if r, err := n.Repositories.BringBackRepository(ctx, caller, name); code == "" && (err != nil || r.Name != name) ||
			code != "" && fault.Of(err).Code != code {
			t.Errorf("bringing %s back: %v %v; want %q", name, r.Name, err, code)
		}
	}
	remove := func(name string) {
		t.Helper()
		if err := n.Repositories.RemoveRepository(ctx, n.admin, name, true); err != nil {
			t.Fatal(err)
		}
	}
	remove("platform")
	remove("releases")
	if _, err := n.Directory.Repository(n.admin, "releases", access.Read); !strings.Contains(fault.Of(err).Message,
		"was removed by admin on") || !strings.Contains(fault.Of(err).Hint, "crelvo repo remove releases --undo") {
		t.Errorf("who asks for a removed repository is told %v", err)
	}
	if _, err := n.Directory.Repository(access.Caller{Name: "deckhand", ID: 99}, "releases",
		access.Read); strings.Contains(err.Error(), "removed") {
		t.Errorf("a stranger is told %v", err)
	}
	if all := n.Directory.RemovedRepositories(n.admin); len(all) != 2 || all[0].Name != "platform" ||
		all[0].By != "admin" {
		t.Errorf("removed are %v", all)
	}
	back(access.Caller{Name: "deckhand", ID: 99}, "releases", "role-missing")
	back(n.admin, "platform", "member-removed")
	back(n.admin, "nowhere", "no-such-repository")
	back(n.admin, "releases", "")
	if got := n.versions(t, r); !slices.Equal(got, []string{"1.0.0"}) {
		t.Errorf("it holds %v", got)
	}
	back(n.admin, "platform", "")
	back(n.admin, "platform", "name-taken")
	remove("platform")
	remove("releases")
	n.later(15 * 24 * time.Hour)
	back(n.admin, "releases", "no-such-repository")
}
