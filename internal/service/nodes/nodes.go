// Package nodes is about the programs that serve together: which there are, how they are,
// and which of them is to be left alone.
package nodes

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"runtime/metrics"
	"strings"
	"sync/atomic"
	"time"

	"crelvo/internal/core/access"
	"crelvo/internal/core/fault"
	"crelvo/internal/record"
	"crelvo/internal/service/act"
	"crelvo/internal/service/directory"
)

const (
	// beatEvery is how often a node gives a sign of life, and goneAfter, after how long
	// without one it is taken for dead.
	beatEvery = 3 * time.Second
	goneAfter = 20 * time.Second
)

// Nodes tells the other nodes that this one is there, and looks after those that are not any
// more. It is safe for use by several at once.
type Nodes struct {
	*act.Act
	directory *directory.Directory

	name, address string
	known         bool      // to the other nodes; one chore alone uses it
	answered      [20]int64 // at each of the last signs of life, by turns
	turn          int
	alone         atomic.Bool
}

// New makes the room.
func New(a *act.Act, directory *directory.Directory) *Nodes {
	s := &Nodes{Act: a, directory: directory, name: a.Settings.NodeName, address: a.Settings.NodeAddress}
	a.Alone = s.alone.Load
	return s
}

// Begin makes this node known; first is that no other one is there. The one before it in the
// same folder, which nobody else uses, has ended, whatever the records say.
func (s *Nodes) Begin(ctx context.Context) (first bool, err error) {
	path := filepath.Join(s.Settings.Folder, "node")
	if s.Settings.Folder != "" {
		raw, err := os.ReadFile(path)
		if err == nil {
			err = s.DB.BuryNode(ctx, strings.TrimSpace(string(raw)))
		}
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return false, err
		}
		if err := os.WriteFile(path, []byte(s.DB.ID()+"\n"), 0o600); err != nil {
			return false, err
		}
	}
	if err := s.beat(ctx); err != nil {
		return false, err
	}
	return s.alone.Load(), nil
}

// Chores implements act.Busy.
func (s *Nodes) Chores() []act.Chore {
	return []act.Chore{{Every: beatEvery, What: "telling other nodes of this one", Do: s.beat, Always: true}}
}

// End implements act.Ender.
func (s *Nodes) End() {
	ctx, cancel := context.WithTimeout(context.Background(), 3*time.Second)
	defer cancel()
	s.known = false // it may begin again
	if err := s.DB.Leave(ctx); err != nil {
		s.Log.Warn("other nodes could not be told that this one ends", "error", err)
	}
}

// beat gives a sign of life, and looks after nodes that do not.
func (s *Nodes) beat(ctx context.Context) error {
	total := s.Answered.Load()
	before := s.answered[(s.turn+1)%len(s.answered)]
	s.answered[s.turn] = total
	s.turn = (s.turn + 1) % len(s.answered)
	draining, isNew, err := s.DB.Beat(ctx, record.Node{Name: s.name, Address: s.address, Version: s.Settings.Version,
		Requests: int(s.Running.Load()), Answered: total - before, Memory: memory(), Doing: s.Doing()}, beatEvery)
	if err != nil {
		return err
	}
	s.setDraining(draining)
	if isNew && s.known {
		// The others took it for dead; what it was receiving was given up.
		s.Log.Warn("this node gave no sign of life for long, and was taken for dead by others")
		s.ForgetAll()
	}
	s.known = true
	if err := s.bury(ctx); err != nil {
		return err
	}
	return s.lookAround(ctx)
}

// lookAround looks whether there are other nodes.
func (s *Nodes) lookAround(ctx context.Context) error {
	alone, err := s.DB.Alone(ctx, goneAfter)
	if err == nil {
		s.alone.Store(alone)
		s.DB.Several.Store(!alone)
	}
	return err
}

// bury takes dead nodes out of the list.
func (s *Nodes) bury(ctx context.Context) error {
	dead, err := s.DB.Bury(ctx, goneAfter)
	for _, n := range dead {
		s.Log.Warn("a node gives no sign of life any more; others go on with what it did", "node", n.Name, "address",
			n.Address, "last", n.SeenAt.UTC().Format(time.RFC3339))
		s.Worry("node/"+n.Name, act.Concern{Level: "soon",
			What: fmt.Sprintf("The node %s (%s) ended without a word, last seen at %s", n.Name, n.Address,
				n.SeenAt.UTC().Format(act.TimeForm)),
			Do: "Look at its log and its machine, and start it again. Others go on with what it did.", Page: "/status"})
	}
	return err
}

func (s *Nodes) setDraining(draining bool) {
	if s.Draining.Swap(draining) != draining {
		s.Log.Info("this node is to be left alone, or not any more", "draining", draining)
	}
}

// memory is how much of it the program has from the system, in bytes.
func memory() int64 {
	samples := []metrics.Sample{{Name: "/memory/classes/total:bytes"}, {Name: "/memory/classes/heap/released:bytes"}}
	metrics.Read(samples)
	return int64(samples[0].Value.Uint64() - samples[1].Value.Uint64())
}

// View is a node as it is shown.
type View struct {
	record.Node
	Here bool // it is the one that answers
	Lost bool // it gave no sign of life lately
}

// Nodes lists the nodes.
func (s *Nodes) Nodes(ctx context.Context, caller access.Caller) ([]View, error) {
	if err := s.directory.Allow(caller, access.Manage, act.Everything); err != nil {
		return nil, err
	}
	const shown = time.Hour
	all, err := s.DB.Nodes(ctx, shown)
	views := make([]View, len(all))
	for i, n := range all {
		views[i] = View{Node: n, Here: n.ID == s.DB.ID()}
	}
	if err != nil || len(all) == 0 {
		return views, err
	}
	now, err := s.DB.Now(ctx)
	for i := range views {
		views[i].Lost = now.Sub(views[i].SeenAt) > goneAfter
	}
	return views, err
}

// Drain says that a node is to be left alone, or not any more: it tells whoever asks that it
// is not ready, finishes what it does, and begins nothing new in the background.
func (s *Nodes) Drain(ctx context.Context, caller access.Caller, which string, draining bool) (View, error) {
	all, err := s.Nodes(ctx, caller)
	if err != nil {
		return View{}, err
	}
	var found []View
	for _, n := range all {
		if n.Name == which || n.Address == which || strings.HasPrefix(strings.ToLower(n.ID), strings.ToLower(which)) {
			found = append(found, n)
		}
	}
	if len(found) != 1 {
		return View{}, fault.New(fault.NotFound, "no-such-node", "%d nodes are called %q", len(found), which).
			WithHint("Name one by its name, its address, or the beginning of its id; crelvo node list shows them.")
	}
	n := found[0]
	err = s.DB.Within(ctx, func(tx *record.Tx) error {
		if err := tx.Drain(ctx, n.ID, draining); err != nil {
			return err
		}
		event := s.Event(caller, record.EventNodeDrained)
		if !draining {
			event = s.Event(caller, record.EventNodeResumed)
		}
		event.Subject = n.Name + " " + n.Address
		return tx.Append(ctx, event, record.Change{Kind: record.OfNode, Name: n.ID})
	})
	if errors.Is(err, record.ErrNotFound) {
		return View{}, fault.New(fault.NotFound, "no-such-node", "the node %s has just ended", which)
	}
	n.Draining = draining
	return n, err
}

// Hear takes note of another node, or that this one is to be left alone.
func (s *Nodes) Hear(c record.Change) error {
	if c.Kind != record.OfNode {
		return nil
	}
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	if c.Name != s.DB.ID() {
		return s.lookAround(ctx)
	}
	all, err := s.DB.Nodes(ctx, goneAfter)
	for _, n := range all {
		if n.ID == s.DB.ID() {
			s.setDraining(n.Draining)
		}
	}
	return err
}
