package service

import (
	"strings"
	"testing"
	"time"

	"crelvo/internal/core/access"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/purl"
	"crelvo/internal/record"
	"crelvo/internal/record/recordtest"
	"crelvo/internal/service/builds"
	"crelvo/internal/service/repositories"
	"crelvo/internal/service/rights"
)

func tideModel(version string) purl.PURL {
	return purl.PURL{Ecosystem: "maven", Namespace: "example.skerry.berth", Name: "tide-model", Version: version}
}

// counts are what a package says that it has, and what it has.
func (n *node) counts(t *testing.T, r catalog.Repository) (versions, visible int) {
	t.Helper()
	if err := n.DB.QueryRowContext(t.Context(),
		`select p.versions, (select count(*) from version v where v.package_id = p.id and v.visible_from is not null
			and v.visible_until is null)
		from package p where p.repository_id = $1 and p.name = 'tide-model'`, r.ID).Scan(&versions, &visible); err != nil {
		t.Fatal(err)
	}
	return versions, visible
}

// TestMarksGoWithTheirVersions: a withdrawal is about what was there, and a pinned
// version is not removed by hand without a word.
func TestMarksGoWithTheirVersions(t *testing.T) {
	n := newNode(t, recordtest.URL(t))
	r := n.repository(t)
	if err := n.publish(t, r, "1.0", "a"); err != nil {
		t.Fatal(err)
	}
	if err := n.Publishing.WithdrawVersion(t.Context(), n.admin, "releases", tideModel("1.0"), "wrong moon",
		false); err != nil {
		t.Fatal(err)
	}
	if err := n.DB.Within(t.Context(), func(tx *record.Tx) error {
		_, err := tx.SetPin(t.Context(), r.Key("maven", "example.skerry.berth", "tide-model"),
			record.Pin{Version: "1.0", Reason: "used at sea", By: "purser", At: n.Now()})
		return err
	}); err != nil {
		t.Fatal(err)
	}
	if _, err := n.Retention.RemoveVersion(t.Context(), n.admin, "releases", tideModel("1.0")); fault.Of(err).
		Code != "pinned" || !strings.Contains(err.Error(), "used at sea") {
		t.Errorf("a pinned version: %v", err)
	}
	if err := n.DB.Within(t.Context(), func(tx *record.Tx) error {
		_, err := tx.EndPin(t.Context(), r.Key("maven", "example.skerry.berth", "tide-model"), "1.0", "purser", n.Now())
		return err
	}); err != nil {
		t.Fatal(err)
	}
	if _, err := n.Retention.RemoveVersion(t.Context(), n.admin, "releases", tideModel("1.0")); err != nil {
		t.Fatal(err)
	}
	if err := n.publish(t, r, "1.0", "a"); err != nil {
		t.Fatal(err)
	}
	p, err := n.Resolving.Package(t.Context(), r.Key("maven", "example.skerry.berth", "tide-model"))
	if err != nil || p.Versions[0].Withdrawn != nil {
		t.Errorf("published anew, it is withdrawn from birth: %+v, %v", p, err)
	}
}

// TestVerifyRecords: what does not agree with the rows is told and put right.
func TestVerifyRecords(t *testing.T) {
	n := newNode(t, recordtest.URL(t))
	r := n.repository(t)
	for _, version := range []string{"1.0", "1.1"} {
		if err := n.publish(t, r, version, version); err != nil {
			t.Fatal(err)
		}
	}
	if mended, err := n.Retention.VerifyRecords(t.Context(), n.admin); err != nil || len(mended) != 0 {
		t.Fatalf("%+v, %v", mended, err)
	}
	for _, damage := range []string{`update package set versions = 0, bytes = bytes + 7`,
		`update version set bytes = 1 where version = '1.0'`,
		`insert into label (package_id, name, version, set_by, visible_from) select id, 'latest', '9.9', 'nobody', now()
			from package`} {
		if _, err := n.DB.ExecContext(t.Context(), damage); err != nil {
			t.Fatal(err)
		}
	}
	mended, err := n.Retention.VerifyRecords(t.Context(), n.admin)
	if err != nil || len(mended) != 3 {
		t.Errorf("%+v, %v", mended, err)
	}
	if versions, visible := n.counts(t, r); versions != 2 || visible != 2 {
		t.Errorf("it says %d versions, and has %d", versions, visible)
	}
	if again, err := n.Retention.VerifyRecords(t.Context(), n.admin); err != nil || len(again) != 0 {
		t.Errorf("once more: %+v, %v", again, err)
	}
	concerns, err := n.Status.Concerns(t.Context(), n.admin)
	if err != nil || len(concerns) == 0 || !strings.Contains(concerns[0].What, "put right") {
		t.Errorf("%+v, %v", concerns, err)
	}
}

// TestOneOrder: what documents take for the newest upload is what a promotion
// takes, whatever the clocks of clients and servers say.
func TestOneOrder(t *testing.T) {
	n := newNode(t, recordtest.URL(t))
	now := time.Date(2026, 11, 1, 8, 0, 0, 0, time.UTC)
	n.Settings.Now = func() time.Time { return now }
	r, err := n.Repositories.AddRepository(t.Context(), n.admin,
		repositories.NewRepository{Repository: catalog.Repository{Name: "snapshots", Kind: catalog.House,
			Holds: catalog.Snapshots}})
	if err != nil {
		t.Fatal(err)
	}
	// The server's clock is put back by a day between the two.
	for i, content := range []string{"first", "second", "third"} {
		if err := n.publish(t, r, "1.0-SNAPSHOT", content); err != nil {
			t.Fatal(err)
		}
		if i == 0 {
			now = now.Add(-24 * time.Hour)
		}
		now = now.Add(time.Second)
	}
	p, err := n.Resolving.Package(t.Context(), r.Key("maven", "example.skerry.berth", "tide-model"))
	if err != nil || len(p.Versions) != 3 {
		t.Fatalf("%+v, %v", p, err)
	}
	newest := p.Versions[0]
	for _, v := range p.Versions[1:] {
		if v.Newer(newest) {
			newest = v
		}
	}
	if newest.UploadCount != 3 {
		t.Errorf("documents take upload %d", newest.UploadCount)
	}
	made, err := n.Builds.VersionsOf(t.Context(), n.admin,
		[]string{"pkg:maven/example.skerry.berth/tide-model@1.0-SNAPSHOT"}, "snapshots")
	if err != nil || made[0].ID != newest.ID {
		t.Errorf("a build takes %+v, %v", made, err)
	}
	f, err := n.DB.File(t.Context(), catalog.FileQuestion{Key: r.Key("maven", "example.skerry.berth", "tide-model"),
		Version: "1.0-SNAPSHOT", Extension: "jar"})
	if err != nil || f.VersionID != newest.ID {
		t.Errorf("a request takes %+v, %v", f, err)
	}
}

// TestBuildNames: a name of builds belongs to who used it first with the right to
// publish, or to whom an admin gave it.
func TestBuildNames(t *testing.T) {
	n := newNode(t, recordtest.URL(t))
	n.repository(t)
	caller := func(name string, robot bool, role access.Role) access.Caller {
		t.Helper()
		if err := n.Rights.AddPrincipal(t.Context(), n.admin,
			rights.NewPrincipal{Name: name, Robot: robot, Grants: []access.Grant{{Role: role, Repositories: "*"}}}); err != nil {
			t.Fatal(err)
		}
		c, err := n.Rights.CallerNamed(t.Context(), name)
		if err != nil {
			t.Fatal(err)
		}
		return c
	}
	reader, ci, other := caller("deckhand", false, access.Reader), caller("ci-berth", true, access.Publisher),
		caller("purser", false, access.Publisher)
	if _, _, err := n.Builds.BeginBuild(t.Context(), reader, "berth-planner#1"); !fault.Is(err, fault.Denied) {
		t.Errorf("a reader begins a build: %v", err)
	}
	limited := other
	limited.Token, limited.Can = "read-only", []access.Action{access.Read}
	if _, _, err := n.Builds.BeginBuild(t.Context(), limited, "berth-planner#1"); !fault.Is(err, fault.Denied) {
		t.Errorf("a token for reading begins a build: %v", err)
	}
	if _, _, err := n.Builds.BeginBuild(t.Context(), ci, "berth-planner#1"); err != nil {
		t.Fatal(err)
	}
	for _, try := range []func() error{
		func() error { _, _, err := n.Builds.BeginBuild(t.Context(), other, "berth-planner#2"); return err },
		func() error {
			_, err := n.Builds.RecordBuild(t.Context(), other,
				builds.Report{Name: "berth-planner", Number: "3", Link: "https://evil.example/"})
			return err
		},
		func() error { _, err := n.Builds.SayBuild(t.Context(), other, "berth-planner#4"); return err },
	} {
		if err := try(); fault.Of(err).Code != "others-build-name" {
			t.Errorf("somebody else uses the name: %v", err)
		}
	}
	if err := n.Builds.GiveBuildName(t.Context(), ci, "berth-planner", "ci-berth"); !fault.Is(err, fault.Denied) {
		t.Errorf("who is no admin gives a name away: %v", err)
	}
	narrow := n.admin
	narrow.Token, narrow.Can = "narrow", []access.Action{access.Manage}
	if err := n.Builds.GiveBuildName(t.Context(), narrow, "berth-planner", "purser"); fault.Of(err).
		Code != "token-too-narrow" {
		t.Errorf("a limited token gives a name away: %v", err)
	}
	if err := n.Builds.GiveBuildName(t.Context(), n.admin, "berth-planner", "purser"); err != nil {
		t.Fatal(err)
	}
	if _, _, err := n.Builds.BeginBuild(t.Context(), ci, "berth-planner#5"); fault.Of(err).Code != "others-build-name" {
		t.Errorf("after it was given away: %v", err)
	}
	if b, _, err := n.Builds.BeginBuild(t.Context(), other, "berth-planner#5"); err != nil || b.ID == 0 {
		t.Error(err)
	}
	if err := n.Builds.RemoveBuild(t.Context(), n.admin, "berth-planner#1"); err != nil {
		t.Error(err)
	}
	// What a repository that takes only builds asks is more than a header of anybody's.
	only := true
	r, err := n.Repositories.EditRepository(t.Context(), n.admin, "releases",
		repositories.SettingsChange{OnlyBuilds: &only})
	if err != nil {
		t.Fatal(err)
	}
	invented := other
	if invented.Build, err = n.Builds.SayBuild(t.Context(), other, "invented#1"); err != nil {
		t.Fatal(err)
	}
	if err := n.Publishing.Insists(invented, r); fault.Of(err).Code != "only-builds" {
		t.Errorf("a build that a person invented: %v", err)
	}
	if invented.Build, err = n.Builds.SayBuild(t.Context(), other, "berth-planner#6"); err != nil {
		t.Fatal(err)
	}
	if err := n.Publishing.Insists(invented, r); err != nil {
		t.Errorf("a build whose name was given: %v", err)
	}
	if ci.Build, err = n.Builds.SayBuild(t.Context(), ci, "ferry#1"); err != nil {
		t.Fatal(err)
	}
	if err := n.Publishing.Insists(ci, r); err != nil {
		t.Errorf("a robot's build: %v", err)
	}
}
