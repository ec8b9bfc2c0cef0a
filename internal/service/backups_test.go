package service

import (
	"os"
	"strings"
	"testing"
	"time"

	"crelvo/internal/core/access"
	"crelvo/internal/core/fault"
	"crelvo/internal/record"
	"crelvo/internal/record/recordtest"
	"crelvo/internal/service/backups"
)

// backedUp waits for the end of the last backup.
func (n *node) backedUp(t *testing.T) record.Backup {
	t.Helper()
	for end := time.Now().Add(30 * time.Second); time.Now().Before(end); {
		all, err := n.Backups.Runs(t.Context(), n.admin)
		if err != nil {
			t.Fatal(err)
		}
		if len(all) > 0 && all[0].State != record.BackupUnderWay {
			return all[0]
		}
	}
	t.Fatal("the backup does not end")
	return record.Backup{}
}

// TestBackupBySchedule: backups are made by themselves, by one node, again when it is time, and
// sooner after one that failed; so many are kept, and what could not be read is told.
func TestBackupBySchedule(t *testing.T) {
	ctx := t.Context()
	n := newNode(t, recordtest.URL(t))
	r := n.repository(t)
	const looking = "looking whether a backup is to be made"
	if err := n.chore(ctx, looking); err != nil {
		t.Fatal(err)
	}
	target := t.TempDir()
	n.Settings.BackupTo, n.Settings.BackupEvery, n.Settings.BackupKeep = target, 24*time.Hour, 2
	if concerns, err := n.Backups.Concerns(ctx); err != nil || len(concerns) != 1 {
		t.Errorf("with none made: %+v, %v", concerns, err)
	}
	began := func() (before int64) {
		t.Helper()
		all, err := n.DB.Backups(ctx, 1)
		if err == nil {
			err = n.chore(ctx, looking)
		}
		if err != nil {
			t.Fatal(err)
		}
		if len(all) > 0 {
			before = all[0].ID
		}
		return before
	}
	var names []string
	for i, version := range []string{"1.0", "2.0", "3.0"} {
		if err := n.publish(t, r, version, version); err != nil {
			t.Fatal(err)
		}
		before := began()
		b := n.backedUp(t)
		if b.State != record.BackupDone || b.ID == before || b.NewFiles == 0 || b.NewFiles == b.Files && i > 0 {
			t.Errorf("%s: %+v", version, b)
		}
		names = append(names, b.Name)
		if before = began(); n.backedUp(t).ID != before {
			t.Error("one is made again at once")
		}
		n.later(25 * time.Hour)
	}
	at, err := backups.OpenTarget(target, t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	defer at.Close()
	all, _, err := at.Manifests(ctx)
	if err != nil || len(all) != 2 || all[0].Name != names[1] || all[1].Name != names[2] {
		t.Errorf("kept are %+v, %v; want the last of %v", all, err, names)
	}
	if concerns, err := n.Backups.Concerns(ctx); err != nil || len(concerns) != 0 {
		t.Errorf("%+v, %v", concerns, err)
	}

	// One that cannot be read any more stands in the way of nothing.
	if err := at.SetDocument(ctx, names[1], []byte("{}")); err != nil {
		t.Fatal(err)
	}
	if m, err := at.Manifest(ctx, "", time.Time{}); err != nil || m.Name != names[2] {
		t.Errorf("the last one is %s, %v", m.Name, err)
	}
	if _, err := at.Manifest(ctx, names[1], time.Time{}); fault.Of(err).Code != "bad-backup" {
		t.Errorf("the one that is lost: %v", err)
	}

	if err := n.publish(t, r, "4.0", "4.0"); err != nil {
		t.Fatal(err)
	}
	if err := os.Remove(n.pathOf(t, n.dir, r, "4.0")); err != nil {
		t.Fatal(err)
	}
	began()
	if b := n.backedUp(t); b.State != record.BackupDone || b.Missing != 1 || !strings.Contains(b.Said, "1 files") {
		t.Errorf("with a file gone: %+v", b)
	}

	n.Settings.BackupTo = target + "/none/of/it"
	if err := os.WriteFile(target+"/none", nil, 0o600); err != nil {
		t.Fatal(err)
	}
	n.later(25 * time.Hour)
	if err := n.chore(ctx, looking); err == nil {
		t.Error("a target that cannot be is taken")
	}
	if _, err := n.Backups.Begin(ctx, access.Caller{ID: 9, Name: "nobody"}, target); !fault.Is(err, fault.Denied) {
		t.Errorf("nobody may begin one: %v", err)
	}
	if _, _, err := n.DB.BeginBackup(ctx, target, "another node", n.Now(), n.Now().Add(time.Minute)); err != nil {
		t.Fatal(err)
	}
	if _, err := n.Backups.Begin(ctx, n.admin, target); fault.Of(err).Code != "backup-under-way" {
		t.Errorf("two at once: %v", err)
	}
	n.later(time.Hour)
	if _, err := n.Backups.Begin(ctx, n.admin, target); err != nil {
		t.Errorf("after the other node died: %v", err)
	}
	if b := n.backedUp(t); b.State != record.BackupDone {
		t.Errorf("%+v", b)
	}
}
