package web

import (
	"context"
	"fmt"
	"net/http"
	"strings"

	"crelvo/internal/api"
	"crelvo/internal/core/access"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/chain"
	"crelvo/internal/core/purl"
	"crelvo/internal/record"
	"crelvo/internal/service/resolving"
)

func (w *Server) showChain(caller access.Caller, r catalog.Repository) *api.Chain {
	shown := &api.Chain{Members: []api.Member{}, OpenMembers: r.Chain.OpenMembers,
		ReleasesTo:  w.service.Repositories.NameIn(caller, r, r.Chain.ReleasesTo),
		SnapshotsTo: w.service.Repositories.NameIn(caller, r, r.Chain.SnapshotsTo)}
	for _, m := range r.Chain.Members {
		if name := w.service.Repositories.NameIn(caller, r, m.RepositoryID); name != "" {
			shown.Members = append(shown.Members, api.Member{Name: name, MaySkip: m.MaySkip})
		} else {
			shown.Hidden = true
		}
	}
	return shown
}

func (w *Server) addChains() {
	operate(w, "explain", toRead, http.MethodGet, "/api/v1/repositories/{name}/explain", "Which repository answers for a package or version, and why the others do not",
		func(ctx context.Context, v visit, in *struct {
			ByName
			PURL string `query:"purl" required:"true" maxLength:"1024" example:"pkg:maven/org.openshore/brine-http@2.1.0"`
		}) (*answer[api.Explanation], error) {
			p, err := purl.Parse(in.PURL)
			if err != nil {
				return nil, err
			}
			explained, err := w.service.Resolving.Explain(ctx, v.caller, p, in.Name)
			if err != nil {
				return nil, err
			}
			return &answer[api.Explanation]{showExplanation(explained)}, nil
		})
	operate(w, "list-claims", forSignedIn, http.MethodGet, "/api/v1/claims", "The names that are claimed by pattern, and the lifts",
		func(ctx context.Context, v visit, _ *none) (*answer[[]api.Claim], error) {
			claims, err := w.service.Repositories.Claims(ctx, v.caller)
			shown := []api.Claim{}
			for _, c := range claims {
				shown = append(shown, showClaim(c))
			}
			return &answer[[]api.Claim]{shown}, err
		})
	operate(w, "add-claim", forAdmin, http.MethodPost, "/api/v1/claims", "Claim names, so that no mirror behind a chain answers for them",
		func(ctx context.Context, v visit, in *answer[api.NewClaim]) (*answer[api.Claim], error) {
			c, err := w.service.Repositories.AddClaim(ctx, v.caller, in.Body.Pattern, in.Body.Reason)
			return &answer[api.Claim]{showClaim(c)}, err
		})
	operate(w, "lift-claim", forAdmin, http.MethodPost, "/api/v1/claims/lift", "End a claim, or let mirrors answer for names that were published here",
		func(ctx context.Context, v visit, in *answer[api.NewClaim]) (*answer[api.Claim], error) {
			c, err := w.service.Repositories.LiftClaim(ctx, v.caller, in.Body.Pattern, in.Body.Reason)
			return &answer[api.Claim]{showClaim(c)}, err
		})
	operate(w, "list-claimed-names", toRead, http.MethodGet, "/api/v1/repositories/{name}/claimed-names", "The names that are claimed in a chain since they were published",
		func(ctx context.Context, v visit, in *struct {
			ByName
			Query string `query:"q" maxLength:"200"`
		}) (*answer[api.ClaimedNames], error) {
			names, total, err := w.service.Repositories.PublishedNames(ctx, v.caller, in.Name, in.Query)
			shown := api.ClaimedNames{Names: []api.ClaimedName{}, Total: total}
			for _, n := range names {
				p := purl.PURL{Ecosystem: n.Ecosystem, Namespace: n.Namespace, Name: n.Name}
				shown.Names = append(shown.Names, api.ClaimedName{PURL: p.String(), In: n.In, Since: n.Since.UTC()})
			}
			return &answer[api.ClaimedNames]{shown}, err
		})
}

func showClaim(c record.Claim) api.Claim {
	return api.Claim{Pattern: c.Pattern, Lifted: c.Lifted, Reason: c.Reason, By: c.By, At: c.At.UTC()}
}

func showExplanation(e resolving.Explanation) api.Explanation {
	shown := api.Explanation{PURL: e.PURL.String(), Repository: e.Repository.At(), Ours: e.Ours, Outcome: "absent", Steps: []api.Step{}}
	var answering []string
	blocked := map[chain.Said][]string{}
	for _, s := range e.Steps {
		shown.Steps = append(shown.Steps, api.Step{Repository: s.Name, Kind: string(s.Kind), Via: append([]string{}, s.Via...),
			Said: string(s.Said), Why: s.Why, Answers: s.Answers, Skipped: s.Skipped})
		if s.Answers {
			answering = append(answering, s.Name)
		}
		if s.Said == chain.Claimed || s.Said == chain.Denied {
			blocked[s.Said] = append(blocked[s.Said], s.Name)
		}
	}
	switch {
	case e.Failed >= 0:
		shown.Outcome = "failed"
		shown.Sentence = fmt.Sprintf("Clients get 503: %s fails, and may have it.", e.Steps[e.Failed].Name)
	case len(answering) > 0:
		shown.Outcome = "answered"
		shown.Sentence = strings.Join(answering, " and ") + " answers."
		if len(answering) > 1 {
			shown.Sentence = strings.Join(answering, " and ") + " answer together."
		}
	default:
		shown.Sentence = "Nobody has it: clients get 404."
	}
	for _, said := range []chain.Said{chain.Claimed, chain.Denied} {
		if names := blocked[said]; names != nil {
			shown.Sentence += fmt.Sprintf(" %s must not (%s).", strings.Join(names, " and "), said)
		}
	}
	return shown
}
