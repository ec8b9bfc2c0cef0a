package promotion

import (
	"context"
	"encoding/json"
	"maps"
	"slices"

	"crelvo/internal/api"
	"crelvo/internal/core/access"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/promotion"
	"crelvo/internal/core/purl"
	"crelvo/internal/record"
	"crelvo/internal/service/builds"
)

// Summary is a promotion in a list, as far as somebody may see it.
type Summary struct {
	record.Promotion
	From, To   string // names of repositories; From is "" to who may not see it
	Deliveries []record.Delivery
	// Next are the development versions to go on with, by package URL.
	Next map[string]string
	// MayVote: the caller's word would count. MayUndo: the caller may take it back.
	// MayCancel: the caller may end it while it waits.
	MayVote, MayUndo, MayCancel bool
}

// View is one promotion with what becomes of each of its versions; nothing of that to
// who may not see where they come from.
type View struct {
	Summary
	Planned []api.PlannedVersion
}

// Asked is what comes of asking for a promotion, or for what one would do.
type Asked struct {
	View
	Problems []string // why it cannot be
	// Already: it is no new one, but one that was asked for before and waits, is
	// underway or done.
	Already bool
}

// Promotions lists promotions of which the caller may see all, at most f.Limit.
// before is what to ask with for more; 0 if there are none.
func (s *Promotion) Promotions(
	ctx context.Context, caller access.Caller, f record.PromotionFilter, to string,
) (found []Summary, before int64, err error) {
	readable := s.directory.Readable(caller)
	f.Repositories = builds.RepositoryIDs(readable)
	if to != "" {
		r, err := s.directory.Repository(caller, to, access.Read)
		if err != nil {
			return nil, 0, err
		}
		f.ToID = r.ID
	}
	teams, err := s.teamsOf(ctx, caller)
	if err != nil {
		return nil, 0, err
	}
	f.OrApproved = len(teams) > 0 // what asks for a team's word is not only seen by who reads it
	most := f.Limit
	if most > 0 {
		f.Limit++ // to know whether there are more
	}
	all, err := s.DB.Promotions(ctx, f)
	if err != nil {
		return nil, 0, err
	}
	if most > 0 && len(all) > most {
		all = all[:most]
		before = all[most-1].ID
	}
	for _, p := range all {
		if s.itemsSeen(caller, p) || s.isAsked(p, teams) {
			found = append(found, s.summary(caller, p, teams))
		}
	}
	return found, before, s.withDeliveries(ctx, found)
}

// withDeliveries tells what became of what was sent on, to those who may see where
// it came from.
func (s *Promotion) withDeliveries(ctx context.Context, all []Summary) error {
	at := map[int64]*Summary{}
	for i, v := range all {
		if v.Plan != nil {
			at[v.ID] = &all[i]
		}
	}
	if len(at) == 0 {
		return nil
	}
	found, err := s.DB.Deliveries(ctx, slices.Collect(maps.Keys(at))...)
	for _, d := range found {
		at[d.PromotionID].Deliveries = append(at[d.PromotionID].Deliveries, d)
	}
	return err
}

// itemsSeen tells whether the caller may see a promotion: all that it is about,
// where it comes from, or once it is done also where it went.
func (s *Promotion) itemsSeen(caller access.Caller, p record.Promotion) bool {
	if s.sees(caller, p.FromID, p.Items) {
		return true
	}
	return (p.State == record.PromotionDone || p.State == record.PromotionUndone) && s.sees(caller, p.ToID, p.Items)
}

// sees tells whether the caller may read all packages of some items in a
// repository.
func (s *Promotion) sees(caller access.Caller, repositoryID int64, items []record.PromotionItem) bool {
	r, ok := s.directory.RepositoryByID(repositoryID)
	if !ok {
		return false
	}
	sight, ok := s.directory.SightOf(caller, r)
	if !ok {
		return false
	}
	r.Sight = sight
	return !slices.ContainsFunc(items, func(i record.PromotionItem) bool {
		return !s.directory.Shows(r.Key(i.Ecosystem, i.Namespace, i.Name))
	})
}

func (s *Promotion) summary(caller access.Caller, p record.Promotion, teams []string) Summary {
	v := Summary{Promotion: p, Next: nextOf(p.Items)}
	from, _ := s.directory.RepositoryByID(p.FromID)
	to, _ := s.directory.RepositoryByID(p.ToID)
	v.From, v.To = from.Name, to.Name
	if !s.sees(caller, p.FromID, p.Items) && !s.isAsked(p, teams) {
		// Who reads only where it went is told that it came, and its notes.
		v.From, v.Gates, v.Answers, v.Votes, v.Onward, v.SignWith, v.Why, v.Build, v.BuildID = "", nil, nil, nil, nil, "", "",
			"", 0
		v.AskedBy, v.UndoneBy, v.Plan = "", "", nil
	}
	v.MayVote = p.State == record.PromotionWaiting && s.mayVote(caller, p, teams)
	promotes := s.directory.Allow(caller, access.Promote, access.Of(to)) == nil
	v.MayUndo = p.State == record.PromotionDone && promotes
	v.MayCancel = p.State == record.PromotionWaiting && (promotes || caller.Name == p.AskedBy)
	return v
}

// nextOf are the development versions that follow those that items became.
func nextOf(items []record.PromotionItem) map[string]string {
	all := map[string]string{}
	for _, item := range items {
		if next := purl.NextDevelopment(item.Ecosystem, item.ToVersion); next != "" && item.ToVersion != item.Version {
			all[purl.PURL{Ecosystem: item.Ecosystem, Namespace: item.Namespace, Name: item.Name}.String()] = next
		}
	}
	return all
}

// mayVote tells whether what the caller says to a promotion counts.
func (s *Promotion) mayVote(caller access.Caller, p record.Promotion, teams []string) bool {
	return caller.Name != p.AskedBy && s.isAsked(p, teams)
}

// isAsked tells whether a gate of a promotion asks for the word of one of some
// teams. Who is asked sees what it is about.
func (s *Promotion) isAsked(p record.Promotion, teams []string) bool {
	return slices.ContainsFunc(p.Gates, func(text string) bool {
		g, err := promotion.ParseGate(text)
		return err == nil && g.Kind == promotion.Approved && slices.ContainsFunc(g.Names, func(name string) bool {
			return slices.Contains(teams, name)
		})
	})
}

func (s *Promotion) teamsOf(ctx context.Context, caller access.Caller) ([]string, error) {
	if caller.Anonymous() {
		return nil, nil
	}
	teams, err := s.DB.Teams(ctx, caller.ID)
	var names []string
	for _, t := range teams {
		names = append(names, t.Name)
	}
	return names, err
}

// Promotion shows a promotion.
func (s *Promotion) Promotion(ctx context.Context, caller access.Caller, id int64) (View, error) {
	found, _, err := s.Promotions(ctx, caller, record.PromotionFilter{ID: id}, "")
	if err != nil {
		return View{}, err
	}
	if len(found) == 0 {
		return View{}, fault.New(fault.NotFound, "no-such-promotion", "there is no promotion %d that you may see", id)
	}
	v := View{Summary: found[0]}
	if v.Plan == nil {
		return v, nil // the caller may not see where it comes from
	}
	return v, json.Unmarshal(v.Plan, &v.Planned)
}

// Waiting lists the promotions that wait for the caller's word.
func (s *Promotion) Waiting(ctx context.Context, caller access.Caller) ([]Summary, error) {
	found, _, err := s.Promotions(ctx, caller, record.PromotionFilter{States: []string{record.PromotionWaiting}}, "")
	return slices.DeleteFunc(found, func(v Summary) bool {
		return !v.MayVote || slices.ContainsFunc(v.Votes, func(vote record.PromotionVote) bool {
			return vote.Who == caller.Name
		})
	}), err
}
