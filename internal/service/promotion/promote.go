package promotion

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"crelvo/internal/core/access"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/promotion"
	"crelvo/internal/ecosystem"
	"crelvo/internal/record"
	"crelvo/internal/service/act"
)

// promoting are the promotions that this node works on.
type promoting struct {
	mu      sync.Mutex
	working sync.WaitGroup
	ended   bool
}

// end waits for those that are underway, and begins no more.
func (p *promoting) end() {
	p.mu.Lock()
	p.ended = true
	p.mu.Unlock()
	p.working.Wait()
}

const CodeNotWaiting = "not-waiting"

// answerWithin is how long a request for a promotion waits for its end.
const answerWithin = 20 * time.Second

// PlanPromotion says what a promotion would do, and changes nothing.
func (s *Promotion) PlanPromotion(ctx context.Context, caller access.Caller, r Request) (Asked, error) {
	c, answers, err := s.weigh(ctx, caller, r, true)
	if err != nil {
		return Asked{}, err
	}
	if same, err := s.already(ctx, caller, c); err != nil || same.ID != 0 {
		return same, err
	}
	if err := s.comesBack(ctx, c); err != nil {
		return Asked{}, err
	}
	p := c.promotion(s, caller, answers)
	p.State = record.PromotionWaiting
	switch {
	case len(c.problems) > 0 || promotion.Overall(answers) == promotion.Fail:
		p.State = record.PromotionFailed
	case promotion.Overall(answers) == promotion.Pass:
		p.State = record.PromotionDone
	}
	summary := Summary{Promotion: p, From: c.from.Name, To: c.to.Name, Next: nextOf(p.Items)}
	return Asked{View: View{Summary: summary, Planned: c.plan()}, Problems: c.problems}, nil
}

// already finds a promotion of the very same uploads to the very same versions that
// waits, is underway, or is done and was not undone; the zero value if there
// is none.
func (s *Promotion) already(ctx context.Context, caller access.Caller, c *crossing) (Asked, error) {
	sources := make([]int64, len(c.items))
	for i, item := range c.items {
		sources[i] = item.ID
	}
	of, err := s.DB.PromotionsOf(ctx, sources)
	if err != nil {
		return Asked{}, err
	}
	ids := slices.Sorted(slices.Values(of[sources[0]]))
	if len(ids) == 0 {
		return Asked{}, nil
	}
	found, err := s.DB.Promotions(ctx, record.PromotionFilter{IDs: ids, ToID: c.to.ID,
		States: []string{record.PromotionWaiting, record.PromotionUnderway, record.PromotionDone}})
	if err != nil {
		return Asked{}, err
	}
	for _, p := range found {
		if p.FromID != c.from.ID || !s.sameItems(c, p) {
			continue
		}
		if p.State == record.PromotionUnderway && s.Now().Sub(p.AliveAt) > quietAfter {
			continue // nobody seems to work on it, and of two only one can become done
		}
		if p.State == record.PromotionDone {
			placed := make([]int64, len(p.Items))
			for i, item := range p.Items {
				placed[i] = item.TargetID.Int64
			}
			there, err := s.DB.VersionsByID(ctx, placed)
			if err != nil {
				return Asked{}, err
			}
			if len(there) < len(placed) {
				continue // some of it is gone, and may come again
			}
		}
		v, err := s.Promotion(ctx, caller, p.ID)
		return Asked{View: v, Already: true}, err
	}
	return Asked{}, nil
}

// sameItems tells whether a promotion is of the very same items. What only belonged to one
// of them may be in the target by now, and is then no item any more.
func (s *Promotion) sameItems(c *crossing, p record.Promotion) bool {
	found := 0
	for _, item := range p.Items {
		i := slices.IndexFunc(c.items, func(o crossingItem) bool { return o.ID == item.SourceID })
		if i < 0 {
			_, belongs := s.Ecosystem(item.Ecosystem).(ecosystem.Maturing)
			if belongs && item.LabelsFrom == "" {
				continue
			}
			return false
		}
		if o := c.items[i]; o.to != item.ToVersion || strings.Join(o.labels, " ") != item.LabelsTo {
			return false
		}
		found++
	}
	return found == len(c.items)
}

// weigh works out a promotion, and asks the gates.
func (s *Promotion) weigh(
	ctx context.Context, caller access.Caller, r Request, dryRun bool,
) (*crossing, []promotion.Answer, error) {
	c, err := s.cross(ctx, caller, r)
	if err == nil {
		err = s.load(ctx, c)
	}
	if err == nil {
		err = s.rewrite(ctx, c)
	}
	if err != nil {
		return nil, nil, err
	}
	answers, err := s.judge(ctx, c, c.stage.Gates, caller.Name, 0, dryRun, nil, nil)
	return c, answers, err
}

// promotion is the record of a crossing.
func (c *crossing) promotion(s *Promotion, caller access.Caller, answers []promotion.Answer) record.Promotion {
	p := record.Promotion{Track: c.track.Name, FromID: c.from.ID, ToID: c.to.ID, SignWith: c.stage.SignWith, GoOn: c.goOn,
		Restamps: c.stage.Restamps,
		Notes:    c.notes,
		AskedBy:  caller.Name, AskedByID: caller.ID, AskedAt: s.Now(), AliveAt: s.Now(), Gates: c.stage.Gates,
		Onward: c.stage.Onward, Answers: answers}
	if c.build != nil {
		p.BuildID, p.Build = c.build.ID, c.build.Title()
	}
	for _, item := range c.items {
		p.Items = append(p.Items, record.PromotionItem{SourceID: item.ID, ToVersion: item.to, Ecosystem: item.Ecosystem,
			Namespace: item.Namespace,
			Name:      item.Name, Version: item.Version, Upload: item.Upload,
			LabelsFrom: strings.Join(item.had, " "), LabelsTo: strings.Join(item.labels, " ")})
		p.Files += len(item.files)
	}
	return p
}

// Promote asks for a promotion. If all gates pass it is done at once, all of it
// or nothing; if one waits, it waits; if one fails, that is on record.
func (s *Promotion) Promote(ctx context.Context, caller access.Caller, r Request) (Asked, error) {
	if len(r.Notes) > 20_000 {
		return Asked{}, act.Invalid("notes-too-long", "release notes have at most 20000 bytes")
	}
	c, answers, err := s.weigh(ctx, caller, r, false)
	if err != nil {
		return Asked{}, err
	}
	if same, err := s.already(ctx, caller, c); err != nil || same.ID != 0 {
		return same, err
	}
	p := c.promotion(s, caller, answers)
	if p.Plan, err = json.Marshal(c.plan()); err != nil {
		return Asked{}, err
	}
	overall := promotion.Overall(answers)
	p.State = map[promotion.State]string{promotion.Pass: record.PromotionUnderway,
		promotion.Waiting: record.PromotionWaiting, promotion.Fail: record.PromotionFailed}[overall]
	p.Why = why(c.problems, answers)
	if len(c.problems) > 0 {
		p.State = record.PromotionFailed
	}
	if p.State == record.PromotionFailed {
		now := s.Now()
		p.EndedAt = &now
	}
	err = s.DB.Within(ctx, func(tx *record.Tx) error {
		if p.ID, err = tx.AddPromotion(ctx, p); err != nil {
			return err
		}
		action := map[string]record.Action{record.PromotionUnderway: record.EventPromotionBegun,
			record.PromotionWaiting: record.EventPromotionAskedFor, record.PromotionFailed: record.EventPromotionFailed}[p.State]
		return tx.Append(ctx, s.promotionEvent(caller, action, p, c.to.Name),
			record.Change{Kind: record.OfPromotion, Name: act.Itoa(p.ID)})
	})
	if err != nil {
		return Asked{}, err
	}
	if p.State == record.PromotionUnderway {
		s.carryOut(ctx, caller, p)
	}
	v, err := s.Promotion(ctx, caller, p.ID)
	return Asked{View: v, Problems: c.problems}, err
}

// why says in a sentence or more what stands in the way.
func why(problems []string, answers []promotion.Answer) string {
	all := slices.Clone(problems)
	for _, a := range answers {
		if a.State == promotion.Fail {
			all = append(all, a.Gate+": "+strings.Join(a.Facts, "; "))
		}
	}
	const most = 20
	if len(all) > most {
		all = append(all[:most], fmt.Sprintf("and %d more", len(all)-most))
	}
	return strings.Join(all, "\n")
}

func (s *Promotion) promotionEvent(
	caller access.Caller, action record.Action, p record.Promotion, to string,
) record.Event {
	event := s.Event(caller, action)
	event.Repository, event.Subject = to, "promotion "+act.Itoa(p.ID)
	event.Detail = map[string]string{"track": p.Track}
	if p.Build != "" {
		event.Detail["build"] = p.Build
	}
	var names []string
	for _, item := range p.Items {
		names = append(names, item.Name+"@"+item.ToVersion)
	}
	const most = 20
	if len(names) > most {
		names = append(names[:most], fmt.Sprintf("and %d more", len(names)-most))
	}
	event.Detail["versions"] = strings.Join(names, " ")
	if p.Why != "" {
		event.Detail["why"] = p.Why
	}
	return event
}

// carryOut does a promotion that is underway, and waits for its end for a while.
func (s *Promotion) carryOut(ctx context.Context, caller access.Caller, p record.Promotion) {
	s.promoting.mu.Lock()
	if s.promoting.ended {
		s.promoting.mu.Unlock()
		s.failed(context.WithoutCancel(ctx), caller, p,
			fault.New(fault.Unavailable, "going-down", "the server is going down; ask for it again"))
		return
	}
	done := make(chan struct{})
	s.promoting.working.Go(func() {
		defer close(done)
		working := record.Patiently(context.WithoutCancel(ctx))
		if err := s.execute(working, caller, p); err != nil {
			s.failed(working, caller, p, err)
		}
	})
	s.promoting.mu.Unlock()
	waiting := time.NewTimer(answerWithin)
	defer waiting.Stop()
	select {
	case <-done:
	case <-waiting.C:
	case <-ctx.Done():
	}
}

// failed notes that a promotion could not be done.
func (s *Promotion) failed(ctx context.Context, caller access.Caller, p record.Promotion, cause error) {
	f := fault.Of(cause)
	p.Why = f.Message
	if f.Kind == fault.Internal {
		s.Log.Error("a promotion failed", "promotion", p.ID, "error", cause)
	}
	now := s.Now()
	p.State, p.EndedAt, p.AliveAt, p.Answers = record.PromotionFailed, &now, now, nil
	to, _ := s.directory.RepositoryByID(p.ToID)
	err := s.DB.Within(ctx, func(tx *record.Tx) error {
		done, err := tx.MovePromotion(ctx, p.ID, []string{record.PromotionUnderway}, p)
		if err != nil || !done {
			return err
		}
		return tx.Append(ctx, s.promotionEvent(caller, record.EventPromotionFailed, p, to.Name),
			record.Change{Kind: record.OfPromotion, Name: act.Itoa(p.ID)})
	})
	if err != nil {
		s.Log.Error("the end of a promotion could not be noted", "promotion", p.ID, "error", err)
	}
}

// Decide approves or refuses a promotion that waits.
func (s *Promotion) Decide(
	ctx context.Context, caller access.Caller, id int64, approve bool, comment string,
) (View, error) {
	v, err := s.Promotion(ctx, caller, id)
	if err != nil {
		return v, err
	}
	if v.State != record.PromotionWaiting {
		return v, fault.New(fault.Conflict, CodeNotWaiting, "promotion %d does not wait for anybody; it is %s", id, v.State)
	}
	if !v.MayVote {
		f := fault.New(fault.Denied, "not-an-approver", "%s is in none of the teams that may approve promotion %d",
			caller.Name, id)
		if caller.Name == v.AskedBy {
			f = fault.New(fault.Denied, "own-promotion", "%s asked for promotion %d, so somebody else must approve it",
				caller.Name, id)
		}
		return v, f.WithHint("Its gates: %s.", strings.Join(v.Gates, "; "))
	}
	if !approve && strings.TrimSpace(comment) == "" {
		return v, act.Invalid("no-comment", "whoever refuses says why").WithHint("Give a comment.")
	}
	teams, err := s.teamsOf(ctx, caller)
	if err != nil {
		return v, err
	}
	err = s.DB.Within(ctx, func(tx *record.Tx) error {
		if err := tx.Vote(ctx, record.PromotionVote{PromotionID: id, Who: caller.Name, Teams: teams, Approve: approve,
			Comment: comment, At: s.Now()}); err != nil {
			return err
		}
		event := s.promotionEvent(caller, map[bool]record.Action{true: record.EventPromotionApproved,
			false: record.EventPromotionRefused}[approve],
			v.Promotion, v.To)
		event.Detail["comment"] = comment
		return tx.Append(ctx, event, record.Change{Kind: record.OfPromotion, Name: act.Itoa(id)})
	})
	if err == nil {
		err = s.reconsider(ctx, id)
	}
	if err != nil {
		return v, err
	}
	return s.Promotion(ctx, caller, id)
}

// reconsider asks the gates of a promotion that waits again, and does it if they
// pass now.
func (s *Promotion) reconsider(ctx context.Context, id int64) error {
	found, err := s.DB.Promotions(ctx, record.PromotionFilter{ID: id, States: []string{record.PromotionWaiting}})
	if err != nil || len(found) == 0 {
		return err
	}
	p := found[0]
	caller, err := s.rights.CallerNamed(ctx, p.AskedBy)
	if err != nil {
		return err
	}
	c, err := s.again(ctx, p)
	if err != nil {
		return s.settle(ctx, caller, p, record.PromotionFailed, fault.Of(err).Message)
	}
	answers, err := s.judge(ctx, c, p.Gates, p.AskedBy, id, false, p.Votes, p.Answers)
	if err != nil {
		return err
	}
	was := p.Answers
	p.Answers = answers
	refused := slices.ContainsFunc(p.Votes, func(v record.PromotionVote) bool { return !v.Approve })
	switch state := promotion.Overall(answers); {
	case state == promotion.Fail && refused:
		return s.settle(ctx, caller, p, record.PromotionRefused, why(nil, answers))
	case state == promotion.Fail:
		return s.settle(ctx, caller, p, record.PromotionFailed, why(nil, answers))
	case state == promotion.Pass:
		if err := s.settle(ctx, caller, p, record.PromotionUnderway, ""); fault.Of(err).Code == CodeNotWaiting {
			return nil // another node was quicker
		} else if err != nil {
			return err
		}
		s.carryOut(ctx, caller, p)
		return nil
	}
	if fmt.Sprint(was) == fmt.Sprint(answers) {
		return nil
	}
	return s.settle(ctx, caller, p, record.PromotionWaiting, "")
}

// settle moves a promotion that waits to another state, if it still waits.
func (s *Promotion) settle(ctx context.Context, caller access.Caller, p record.Promotion, state, text string) error {
	now := s.Now()
	p.State, p.Why, p.AliveAt = state, text, now
	if state != record.PromotionUnderway && state != record.PromotionWaiting {
		p.EndedAt = &now
	}
	to, _ := s.directory.RepositoryByID(p.ToID)
	return s.DB.Within(ctx, func(tx *record.Tx) error {
		done, err := tx.MovePromotion(ctx, p.ID, []string{record.PromotionWaiting}, p)
		if err == nil && !done && state == record.PromotionUnderway {
			err = fault.New(fault.Conflict, CodeNotWaiting, "promotion %d does not wait any more", p.ID)
		}
		if err != nil || !done {
			return err
		}
		change := record.Change{Kind: record.OfPromotion, Name: act.Itoa(p.ID)}
		if state == record.PromotionWaiting {
			return tx.Tell(ctx, change)
		}
		action := map[string]record.Action{record.PromotionUnderway: record.EventPromotionBegun,
			record.PromotionFailed:    record.EventPromotionFailed,
			record.PromotionRefused:   record.EventPromotionEnded,
			record.PromotionCancelled: record.EventPromotionCancelled}[state]
		return tx.Append(ctx, s.promotionEvent(caller, action, p, to.Name), change)
	})
}

// again works out a recorded promotion once more, from what it is about.
func (s *Promotion) again(ctx context.Context, p record.Promotion) (*crossing, error) {
	c := &crossing{signsBeside: s.signsBeside, track: record.Track{Name: p.Track},
		stage: record.Stage{RepositoryID: p.ToID, Gates: p.Gates, SignWith: p.SignWith, Onward: p.Onward,
			Restamps: p.Restamps}, goOn: p.GoOn,
		notes: p.Notes}
	var ok1, ok2 bool
	c.from, ok1 = s.directory.RepositoryByID(p.FromID)
	c.to, ok2 = s.directory.RepositoryByID(p.ToID)
	if !ok1 || !ok2 {
		return nil, fault.New(fault.Conflict, "stage-removed", "a repository of the promotion was removed")
	}
	if p.BuildID != 0 {
		b, err := s.DB.Build(ctx, record.BuildFilter{ID: p.BuildID})
		if err != nil {
			return nil, err
		}
		c.build = &b
	}
	ids := make([]int64, len(p.Items))
	for i, item := range p.Items {
		ids[i] = item.SourceID
	}
	there, err := s.DB.VersionsByID(ctx, ids)
	if err != nil {
		return nil, err
	}
	for _, item := range p.Items {
		i := slices.IndexFunc(there, func(m record.MadeVersion) bool { return m.ID == item.SourceID })
		if i < 0 {
			return nil, fault.New(fault.Conflict, "source-gone", "%s %s is not in %s any more", item.Name, item.Version,
				c.from.Name)
		}
		c.items = append(c.items, crossingItem{MadeVersion: there[i], to: item.ToVersion,
			had: strings.Fields(item.LabelsFrom), labels: strings.Fields(item.LabelsTo)})
	}
	if err := s.restate(ctx, c); err != nil {
		return nil, err
	}
	return c, s.load(ctx, c)
}

func (s *Promotion) Chores() []act.Chore {
	return []act.Chore{
		{Every: 2 * time.Second, What: "looking after promotions", Do: s.tendPromotions},
		{Every: time.Second, What: "sending versions on", Do: s.deliver},
	}
}

// End implements act.Ender: it waits for the promotions that are underway here.
func (s *Promotion) End() { s.promoting.end() }
