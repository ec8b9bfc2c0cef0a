package web

import (
	"context"
	"fmt"
	"net/http"
	"strings"

	"crelvo/internal/api"
	"crelvo/internal/core/chain"
	"crelvo/internal/core/purl"
	"crelvo/internal/service/resolving"
)

func showExplanation(e resolving.Explanation) api.Explanation {
	shown := api.Explanation{PURL: e.PURL.String(), Repository: e.Repository.At(), Ours: e.Ours, Outcome: "absent",
		Steps: []api.Step{}}
	var answering []string
	blocked := map[chain.Said][]string{}
	for _, s := range e.Steps {
		shown.Steps = append(shown.Steps, api.Step{Repository: s.Name, Kind: string(s.Kind),
			Via:  append([]string{}, s.Via...),
			Said: string(s.Said), Why: s.Why, Answers: s.Answers, Skipped: s.Skipped})
		if s.Answers {
			answering = append(answering, s.Name)
		}
		if s.Said == chain.Claimed || s.Said == chain.Denied || s.Said == chain.KeptOut {
			blocked[s.Said] = append(blocked[s.Said], s.Name)
		}
	}
	switch {
	case e.Failed >= 0:
		shown.Outcome = "failed"
		shown.Sentence = fmt.Sprintf("Clients get 503: %s fails, and may have it.", e.Steps[e.Failed].Name)
	case e.Refusal != nil:
		shown.Outcome = "refused"
		shown.Sentence = fmt.Sprintf("%s has it; %s: clients get 403.", strings.Join(answering, " and "), e.Refusal.Message)
	case len(answering) > 0:
		shown.Outcome = "answered"
		shown.Sentence = strings.Join(answering, " and ") + " answers."
		if len(answering) > 1 {
			shown.Sentence = strings.Join(answering, " and ") + " answer together."
		}
	case blocked[chain.KeptOut] != nil:
		shown.Outcome = "refused"
		shown.Sentence = strings.Join(blocked[chain.KeptOut], " and ") + " has it, and keeps it out: clients get 403."
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

func (w *Server) addExplanations() {
	operate(w, "explain", toRead, http.MethodGet, "/api/v1/repositories/{name}/explain",
		"Which repository answers for a package or version, and why the others do not",
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
}
