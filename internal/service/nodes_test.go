package service

import (
	"errors"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/ecosystem"
	"crelvo/internal/ecosystem/maven"
	"crelvo/internal/record/recordtest"
	"crelvo/internal/service/act"
	"crelvo/internal/service/nodes"
	"crelvo/internal/service/rights"
	bytestore "crelvo/internal/store"
)

const beating = "telling other nodes of this one"

// TestNodes: nodes know of each other, one that ends in order is gone, and one that is to be
// left alone begins nothing.
func TestNodes(t *testing.T) {
	n := newNode(t, recordtest.URL(t))
	other := newNode(t, urlOf(t, n))
	if err := n.chore(t.Context(), beating); err != nil {
		t.Fatal(err)
	}
	if n.Alone() || other.Alone() {
		t.Error("two nodes are alone")
	}
	all, err := n.Nodes.Nodes(t.Context(), n.admin)
	if err != nil || len(all) != 2 || !slices.ContainsFunc(all, func(v nodes.View) bool { return v.Here }) {
		t.Fatalf("%+v, %v", all, err)
	}
	if _, err := n.Nodes.Drain(t.Context(), n.admin, "nobody", true); fault.Of(err).Code != "no-such-node" {
		t.Error(err)
	}
	if _, err := n.Nodes.Drain(t.Context(), n.admin, other.DB.ID()[:8], true); err != nil {
		t.Fatal(err)
	}
	if err := other.chore(t.Context(), beating); err != nil || !other.Draining.Load() || n.Draining.Load() {
		t.Errorf("%v; it is %v, and this one %v", err, other.Draining.Load(), n.Draining.Load())
	}
	other.Nodes.End()
	if err := n.chore(t.Context(), beating); err != nil || !n.Alone() {
		t.Errorf("after the other ended: %v, %v", n.Alone(), err)
	}
}

// receive sends the jar of a version, which stays open.
func (n *node) receive(t *testing.T, r catalog.Repository, version string) error {
	t.Helper()
	content := jar(t, version)
	_, err := n.Publishing.Receive(t.Context(), n.admin, r, maven.Maven{}, ecosystem.Place{
		Namespace: "example.skerry.berth", Name: "tide-model", Version: version, Extension: "jar",
		FileName: "tide-model-" + version + ".jar"}, strings.NewReader(content), int64(len(content)))
	return err
}

// TestDeadNode: a node that gives no sign of life is taken for dead by one that has given
// its own for long, and what nobody goes on with does not become visible by itself. What
// somebody goes on with is not touched.
func TestDeadNode(t *testing.T) {
	n := newNode(t, recordtest.URL(t))
	r := n.repository(t)
	for _, version := range []string{"1.0", "2.0"} {
		if err := n.receive(t, r, version); err != nil {
			t.Fatal(err)
		}
	}
	other := newNode(t, urlOf(t, n))
	ago := func(what string, d time.Duration) {
		t.Helper()
		if _, err := n.DB.ExecContext(t.Context(), what, d.Seconds()); err != nil {
			t.Fatal(err)
		}
	}
	broken := func() (versions []string) {
		t.Helper()
		if err := n.DB.SelectContext(t.Context(), &versions,
			`select version from version where touched_at <= unattended_at order by version`); err != nil {
			t.Fatal(err)
		}
		return versions
	}
	ago(`update node set seen_at = seen_at - $1 * interval '1 second' where id = '`+other.DB.ID()+`'`, time.Minute)
	if _, err := n.DB.ExecContext(t.Context(), `update version set node_id = $1`, other.DB.ID()); err != nil {
		t.Fatal(err)
	}
	ago(`update version set touched_at = touched_at - $1 * interval '1 second' where version = '1.0'`, time.Minute)
	if err := n.chore(t.Context(), beating); err != nil || len(broken()) != 0 {
		t.Errorf("a node that has just begun judges others: %v, %v", broken(), err)
	}
	ago(`update node set steady_since = steady_since - $1 * interval '1 second' where id = '`+n.DB.ID()+`'`, time.Minute)
	if err := n.chore(t.Context(), beating); err != nil || !slices.Equal(broken(), []string{"1.0"}) {
		t.Errorf("broken are %v, %v", broken(), err)
	}
	if !slices.ContainsFunc(n.Worrying(), func(c act.Concern) bool { return strings.Contains(c.What, "ended without a word") }) {
		t.Errorf("%+v", n.Worrying())
	}
	// It was not dead, and comes back.
	if err := other.chore(t.Context(), beating); err != nil {
		t.Fatal(err)
	}
	if all, err := n.Nodes.Nodes(t.Context(), n.admin); err != nil || len(all) != 2 {
		t.Errorf("%+v, %v", all, err)
	}
}

// TestPredecessor: who begins in a folder knows at once that the node before it there has
// ended, so that it does not wait for anything that one had in hand.
func TestPredecessor(t *testing.T) {
	n := newNode(t, recordtest.URL(t))
	r := n.repository(t)
	if err := n.receive(t, r, "1.0"); err != nil {
		t.Fatal(err)
	}
	if mine, err := n.DB.TakeFetching(t.Context(), 1, "brine.jar", time.Minute); err != nil || !mine {
		t.Fatal(mine, err)
	}
	folder, err := bytestore.OpenFolder(n.dir)
	if err != nil {
		t.Fatal(err)
	}
	next, err := New(t.Context(), recordtest.Open(t, urlOf(t, n)), folder, act.Settings{Folder: n.Settings.Folder,
		Log: slog.New(slog.DiscardHandler)})
	if err != nil {
		t.Fatal(err)
	}
	if all, err := next.Nodes.Nodes(t.Context(), n.admin); err != nil || len(all) != 1 || !next.Alone() {
		t.Errorf("%+v, %v, alone %v", all, err, next.Alone())
	}
	if mine, err := next.DB.TakeFetching(t.Context(), 1, "brine.jar", time.Minute); err != nil || !mine {
		t.Errorf("what was fetched: %v, %v", mine, err)
	}
	var broken int
	if err := n.DB.GetContext(t.Context(), &broken, `select count(*) from version where broken_file <> ''`); err != nil ||
		broken != 1 {
		t.Errorf("%d versions do not become visible by themselves, %v", broken, err)
	}
}

// TestOneFlight: however many nodes are asked for a file that none has, the upstream is asked
// once; if the node that fetches it dies, another one does.
func TestOneFlight(t *testing.T) {
	var asked atomic.Int64
	begun := make(chan struct{}, 10)
	content := jar(t, strings.Repeat("brine ", 10_000))
	up := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, q *http.Request) {
		if !strings.HasSuffix(q.URL.Path, ".jar") {
			http.NotFound(w, q)
			return
		}
		asked.Add(1)
		begun <- struct{}{}
		time.Sleep(200 * time.Millisecond) // the upstream is slow
		_, _ = io.WriteString(w, content)
	}))
	defer up.Close()
	n := newNode(t, recordtest.URL(t))
	m := n.mirror(t, "shore", up.URL+"/", nil)
	all := []*node{n, newNode(t, urlOf(t, n)), newNode(t, urlOf(t, n))}
	for _, one := range all {
		if err := one.chore(t.Context(), beating); err != nil || one.Alone() {
			t.Fatalf("%v, alone %v", err, one.Alone())
		}
	}
	get := func(one *node, version string) error {
		found, err := one.Resolving.File(t.Context(), catalog.FileQuestion{Key: m.Key("maven", "org.openshore", "brine"),
			Version: version, Name: "brine-" + version + ".jar"})
		if err == nil && found.Arriving != nil {
			_, err = found.Arriving.File(t.Context())
		}
		return err
	}
	var waiting sync.WaitGroup
	for _, one := range all {
		for range 5 {
			waiting.Go(func() {
				if err := get(one, "1.0"); err != nil {
					t.Error(err)
				}
			})
		}
	}
	waiting.Wait()
	if asked.Load() != 1 {
		t.Errorf("the upstream was asked %d times", asked.Load())
	}
	// Another node said that it fetches it, and died.
	if _, err := n.DB.ExecContext(t.Context(), `insert into fetching (mirror_id, path, node_id, until)
		values ($1, 'org/openshore/brine/2.0/brine-2.0.jar', 'dead', clock_timestamp() + interval '1 second')`,
		m.ID); err != nil {
		t.Fatal(err)
	}
	if err := get(n, "2.0"); err != nil || asked.Load() != 2 {
		t.Errorf("after a node died: %v, asked %d times", err, asked.Load())
	}
}

// TestSharedBrake: wrong passwords count at all nodes together.
func TestSharedBrake(t *testing.T) {
	n := newNode(t, recordtest.URL(t))
	all := []*node{n, newNode(t, urlOf(t, n))}
	var err error
	for i := range 12 {
		_, _, err = all[i%2].Rights.SignIn(t.Context(), "admin", "wrong", rights.Origin{Address: "10.0.0.1"})
		if fault.Is(err, fault.TooMany) {
			if i < 5 {
				t.Errorf("after %d attempts: %v", i, err)
			}
			return
		}
	}
	t.Errorf("after 12 attempts: %v", err)
}

// TestOtherKey: a node whose key is another one than that of the others does not start.
func TestOtherKey(t *testing.T) {
	n := newNode(t, recordtest.URL(t))
	folder, err := bytestore.OpenFolder(n.dir)
	if err != nil {
		t.Fatal(err)
	}
	begin := func(lose bool) error {
		_, err := New(t.Context(), recordtest.Open(t, urlOf(t, n)), folder, act.Settings{SecretKey: [32]byte{7},
			Folder: t.TempDir(), Log: slog.New(slog.DiscardHandler), LoseSecrets: lose})
		return err
	}
	if err := begin(false); fault.Of(err).Code != "other-key" {
		t.Error(err)
	}
	if err := errors.Join(begin(true), begin(false)); err != nil {
		t.Error(err)
	}
}
