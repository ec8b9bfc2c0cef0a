package promotion

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"crelvo/internal/core/access"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/promotion"
	"crelvo/internal/record"
	"crelvo/internal/service/act"
	"crelvo/internal/service/builds"
	"crelvo/internal/service/keys"
)

// TrackStage is a stage by the name of its repository.
type TrackStage struct {
	Repository string
	Gates      []string
	SignWith   string
	Onward     []string
	Restamps   []string
}

// NewTrack is a track to be made, or written anew.
type NewTrack struct {
	Name, Description string
	Stages            []TrackStage
}

// maxStages is how many stages a track may have.
const maxStages = 12

// Tracks lists the tracks of which the caller may read some stage. Other stages
// are left out, and what is asked for on a hop is only told to who may read where
// it leads from.
func (s *Promotion) Tracks(ctx context.Context, caller access.Caller) ([]record.Track, error) {
	tracks, err := s.tracksSeen(ctx, caller)
	readable := builds.RepositoryIDs(s.directory.Readable(caller))
	for i, t := range tracks {
		var shown []record.Stage
		for j, stage := range t.Stages {
			if !slices.Contains(readable, stage.RepositoryID) {
				continue
			}
			if j > 0 && !slices.Contains(readable, t.Stages[j-1].RepositoryID) {
				stage.Gates, stage.SignWith, stage.Onward, stage.Restamps = nil, "", nil, nil
			}
			shown = append(shown, stage)
		}
		tracks[i].Stages = shown
	}
	return tracks, err
}

// tracksSeen are the tracks of which the caller may read some stage, with all that
// they are.
func (s *Promotion) tracksSeen(ctx context.Context, caller access.Caller) ([]record.Track, error) {
	tracks, err := s.DB.Tracks(ctx)
	readable := builds.RepositoryIDs(s.directory.Readable(caller))
	return slices.DeleteFunc(tracks, func(t record.Track) bool {
		return !slices.ContainsFunc(t.Stages, func(stage record.Stage) bool {
			return slices.Contains(readable, stage.RepositoryID)
		})
	}), err
}

// Track shows a track, as Tracks does.
func (s *Promotion) Track(ctx context.Context, caller access.Caller, name string) (record.Track, error) {
	tracks, err := s.Tracks(ctx, caller)
	if err != nil {
		return record.Track{}, err
	}
	return oneTrack(tracks, name)
}

// wholeTrack is a track with all that it is, of which the caller may read a stage.
func (s *Promotion) wholeTrack(ctx context.Context, caller access.Caller, name string) (record.Track, error) {
	tracks, err := s.tracksSeen(ctx, caller)
	if err != nil {
		return record.Track{}, err
	}
	return oneTrack(tracks, name)
}

func oneTrack(tracks []record.Track, name string) (record.Track, error) {
	if i := slices.IndexFunc(tracks, func(t record.Track) bool { return t.Name == name }); i >= 0 {
		return tracks[i], nil
	}
	return record.Track{}, fault.New(fault.NotFound, "no-such-track", "there is no track %s that you may see", name).
		WithHint("crelvo track list shows them.")
}

// AddTrack makes a track.
func (s *Promotion) AddTrack(ctx context.Context, caller access.Caller, n NewTrack) error {
	if !keys.KeyName.MatchString(n.Name) {
		return act.Invalid("bad-name", "%.80q cannot be the name of a track", n.Name).
			WithHint("Use small letters, digits, points and dashes.")
	}
	return s.writeTrack(ctx, caller, record.EventTrackMade, func(tx *record.Tx) (record.Track, error) {
		t, err := s.trackOf(ctx, tx, n)
		if err != nil {
			return t, err
		}
		t.CreatedAt = s.Now()
		ok, err := tx.AddTrack(ctx, t)
		if err == nil && !ok {
			err = fault.New(fault.Conflict, "name-taken", "there is a track %s already", n.Name)
		}
		return t, err
	})
}

// EditTrack writes a track anew.
func (s *Promotion) EditTrack(ctx context.Context, caller access.Caller, n NewTrack) error {
	return s.writeTrack(ctx, caller, record.EventTrackChanged, func(tx *record.Tx) (record.Track, error) {
		was, err := trackNamed(ctx, tx, n.Name)
		if err != nil {
			return was, err
		}
		t, err := s.trackOf(ctx, tx, n)
		if err != nil {
			return t, err
		}
		t.ID = was.ID
		return t, tx.SetTrack(ctx, t)
	})
}

// RemoveTrack removes a track; the record of its promotions stays.
func (s *Promotion) RemoveTrack(ctx context.Context, caller access.Caller, name string) error {
	return s.writeTrack(ctx, caller, record.EventTrackRemoved, func(tx *record.Tx) (record.Track, error) {
		t, err := trackNamed(ctx, tx, name)
		if err != nil {
			return t, err
		}
		open, err := tx.Promotions(ctx, record.PromotionFilter{Track: name,
			States: []string{record.PromotionWaiting, record.PromotionUnderway}, Limit: 1})
		if err == nil && len(open) > 0 {
			err = fault.New(fault.Conflict, "promotion-waits", "promotion %d along %s is not done yet", open[0].ID, name).
				WithHint("Wait for it, or cancel it.")
		}
		if err != nil {
			return t, err
		}
		return t, tx.RemoveTrack(ctx, t.ID)
	})
}

func trackNamed(ctx context.Context, tx *record.Tx, name string) (record.Track, error) {
	tracks, err := tx.Tracks(ctx)
	if i := slices.IndexFunc(tracks, func(t record.Track) bool { return t.Name == name }); i >= 0 {
		return tracks[i], err
	}
	if err == nil {
		err = fault.New(fault.NotFound, "no-such-track", "there is no track %s", name)
	}
	return record.Track{}, err
}

func (s *Promotion) writeTrack(
	ctx context.Context, caller access.Caller, action record.Action, do func(tx *record.Tx) (record.Track, error),
) error {
	if err := s.directory.Allow(caller, access.Manage, act.Everything); err != nil {
		return err
	}
	return s.DB.Within(ctx, func(tx *record.Tx) error {
		t, err := do(tx)
		if err != nil {
			return err
		}
		event := s.Event(caller, action)
		event.Subject, event.Detail = t.Name, map[string]string{}
		var names []string
		for _, stage := range t.Stages {
			r, _ := s.directory.RepositoryByID(stage.RepositoryID)
			names = append(names, r.Name)
			if stage.Gates != nil {
				event.Detail["gates into "+r.Name] = strings.Join(stage.Gates, "; ")
			}
			if stage.SignWith != "" {
				event.Detail["signed in "+r.Name+" with"] = stage.SignWith
			}
			if len(stage.Restamps) > 0 {
				event.Detail["restamped into "+r.Name] = strings.Join(stage.Restamps, ", ")
			}
			if stage.Onward != nil {
				event.Detail["from "+r.Name+" on to"] = strings.Join(stage.Onward, ", ")
			}
		}
		event.Detail["stages"] = strings.Join(names, " → ")
		return tx.Append(ctx, event, record.Change{Kind: record.OfTrack, Name: t.Name})
	})
}

// trackOf checks a track.
func (s *Promotion) trackOf(ctx context.Context, tx *record.Tx, n NewTrack) (record.Track, error) {
	t := record.Track{Name: n.Name, Description: n.Description}
	if len(n.Stages) < 2 || len(n.Stages) > maxStages {
		return t, act.Invalid("bad-stages", "a track has 2 to %d stages, not %d", maxStages, len(n.Stages)).
			WithHint("Name the repositories in the order in which versions go: snapshots, staging, releases.")
	}
	teams, err := tx.Teams(ctx, 0)
	if err != nil {
		return t, err
	}
	known, err := s.keys.Keys(ctx)
	if err != nil {
		return t, err
	}
	targets, err := tx.Targets(ctx)
	if err != nil {
		return t, err
	}
	for i, stage := range n.Stages {
		r, ok := s.directory.Known().ByName[stage.Repository]
		switch {
		case !ok:
			return t, fault.New(fault.NotFound, "no-such-repository", "there is no repository %s", stage.Repository)
		case !r.Own():
			return t, act.Invalid("not-a-house", "%s is a %s; the stages of a track are house repositories", r.Name, r.Kind)
		case slices.ContainsFunc(t.Stages, func(o record.Stage) bool { return o.RepositoryID == r.ID }):
			return t, act.Invalid("stage-twice", "%s is a stage twice", r.Name)
		case i == 0 && (len(stage.Gates) > 0 || stage.SignWith != "" || len(stage.Onward) > 0 ||
			len(stage.Restamps) > 0):
			return t, act.Invalid("gates-before-first", "%s is the first stage, so no hop leads into it", r.Name).
				WithHint("Put gates on the stage that a hop leads into.")
		case i > 0 && t.Stages != nil && r.Holds == catalog.Snapshots:
			if before, _ := s.directory.RepositoryByID(t.Stages[i-1].RepositoryID); before.Holds == catalog.Releases {
				return t, act.Invalid("bad-order", "releases of %s cannot become snapshots in %s", before.Name, r.Name)
			}
		}
		if stage.SignWith != "" && !slices.ContainsFunc(known, func(k keys.View) bool {
			return k.Name == stage.SignWith && k.Signs
		}) {
			return t, fault.New(fault.NotFound, "no-such-key", "there is no key %s to sign with", stage.SignWith).
				WithHint("Make it with crelvo key add %s --sign.", stage.SignWith)
		}
		for _, written := range stage.Restamps {
			if _, err := promotion.ParseRestamp(written); err != nil {
				return t, err
			}
		}
		for _, name := range stage.Onward {
			if !slices.ContainsFunc(targets, func(d record.Target) bool { return d.Name == name }) {
				return t, fault.New(fault.NotFound, "no-such-target", "there is no target %s", name).
					WithHint("Make it with crelvo target add %s.", name)
			}
		}
		stored := record.Stage{RepositoryID: r.ID, SignWith: stage.SignWith, Onward: stage.Onward,
			Restamps: stage.Restamps}
		for _, text := range stage.Gates {
			g, err := promotion.ParseGate(text)
			if err != nil {
				return t, err
			}
			for _, name := range g.Names {
				if g.Kind == promotion.Approved && !slices.ContainsFunc(teams, func(t record.Team) bool { return t.Name == name }) {
					return t, fault.New(fault.NotFound, "no-such-team", "there is no team %s that could approve", name)
				}
				if (g.Kind == promotion.SignedBy || g.Kind == promotion.Attested) &&
					!slices.ContainsFunc(known, func(k keys.View) bool { return k.Name == name }) {
					return t, fault.New(fault.NotFound, "no-such-key", "there is no key %s", name).
						WithHint("Add its public key: crelvo key add %s FILE.", name)
				}
			}
			if why := unpassable(g, teams); why != "" {
				return t, act.Invalid("gate-shut", "%s can never pass: %s", g, why).
					WithHint("Let more people join, or ask for fewer.")
			}
			stored.Gates = append(stored.Gates, g.String())
		}
		t.Stages = append(t.Stages, stored)
	}
	return t, nil
}

// unpassable tells why an approval can never come together; "" if it can.
func unpassable(g promotion.Gate, teams []record.Team) string {
	if g.Kind != promotion.Approved {
		return ""
	}
	members := map[string]bool{}
	for _, name := range g.Names {
		i := slices.IndexFunc(teams, func(t record.Team) bool { return t.Name == name })
		if i < 0 {
			return "there is no team " + name
		}
		for _, who := range teams[i].Members() {
			members[who] = true
		}
	}
	if len(members) < g.Count {
		return fmt.Sprintf("it asks for %d, and %s has %s", g.Count, strings.Join(g.Names, " and "),
			act.Plural(int64(len(members)), "member"))
	}
	return ""
}

// ShutGates are gates of tracks that could pass once and cannot any more.
func (s *Promotion) ShutGates(ctx context.Context, caller access.Caller) (found []act.Concern, err error) {
	if s.rights.MustBeAdmin(caller) != nil {
		return nil, nil
	}
	tracks, err := s.DB.Tracks(ctx)
	if err != nil || len(tracks) == 0 {
		return nil, err
	}
	teams, err := s.DB.Teams(ctx, 0)
	if err != nil {
		return nil, err
	}
	for _, t := range tracks {
		for _, stage := range t.Stages {
			to, _ := s.directory.RepositoryByID(stage.RepositoryID)
			if s.directory.Allow(caller, access.Manage, access.Of(to)) != nil {
				continue
			}
			for _, text := range stage.Gates {
				g, err := promotion.ParseGate(text)
				if err != nil {
					continue // it was written by a later program
				}
				if why := unpassable(g, teams); why != "" {
					found = append(found, act.Concern{Level: "wrong",
						What: fmt.Sprintf("Nothing can be promoted along %s into %s: the gate %s can never pass: %s", t.Name, to.Name,
							text, why),
						Do: fmt.Sprintf("Let people join the team, or change the gates: crelvo track edit %s --into %s --gate …", t.Name,
							to.Name), Page: "/tracks"})
				}
			}
		}
	}
	return found, nil
}

// Standings tells what stands in the stages of a track, as far as the caller may
// see it.
func (s *Promotion) Standings(
	ctx context.Context, caller access.Caller, t record.Track, limit int,
) ([]record.Standing, error) {
	readable := slices.DeleteFunc(s.directory.Readable(caller), func(r catalog.Repository) bool {
		return !slices.ContainsFunc(t.Stages, func(stage record.Stage) bool { return stage.RepositoryID == r.ID })
	})
	return s.DB.Standings(ctx, s.directory.ScopeOf(readable...), limit)
}

// Arrivals tells what came into a repository since a moment.
func (s *Promotion) Arrivals(
	ctx context.Context, caller access.Caller, name string, since time.Time, limit int,
) ([]record.Arrival, error) {
	r, err := s.directory.Repository(caller, name, access.Read)
	if err != nil {
		return nil, err
	}
	return s.DB.Arrivals(ctx, s.directory.ScopeOf(r), since, limit)
}
