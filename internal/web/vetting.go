package web

import (
	"context"
	"errors"
	"net/http"
	"slices"
	"time"

	"crelvo/internal/api"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/locked"
	"crelvo/internal/core/purl"
	core "crelvo/internal/core/safety"
	"crelvo/internal/core/text"
	"crelvo/internal/record"
	"crelvo/internal/service/safety"
	"crelvo/internal/service/vetting"
)

func (w *Server) addVettings() {
	const path = "/api/v1/vettings"
	operate(w, "list-vettings", forSignedIn, http.MethodGet, path, "Decisions about packages; the newest first",
		func(ctx context.Context, v visit, in *struct {
			Ended bool `query:"ended" doc:"those that have ended too"`
		}) (*answer[[]api.Vetting], error) {
			all, err := w.service.Safety.Vettings(ctx, v.caller, in.Ended)
			shown := make([]api.Vetting, len(all))
			for i, one := range all {
				shown[i] = showVetting(one)
			}
			return &answer[[]api.Vetting]{shown}, err
		})
	operate(w, "vet", forSignedIn, http.MethodPost, path, "Accept or refuse what patterns fit",
		func(ctx context.Context, v visit, in *answer[api.NewVetting]) (*answer[[]api.Vetting], error) {
			n := safety.NewVetting{Refused: in.Body.Decision == "refused", Patterns: in.Body.Patterns,
				Repositories: in.Body.Repositories, Reason: in.Body.Reason}
			if in.Body.Until != nil {
				n.Until = *in.Body.Until
			}
			made, err := w.service.Safety.Vet(ctx, v.caller, n)
			shown := make([]api.Vetting, len(made))
			for i, one := range made {
				shown[i] = showVetting(one)
			}
			return &answer[[]api.Vetting]{shown}, err
		})
	operate(w, "end-vetting", forSignedIn, http.MethodDelete, path+"/{id}", "End a decision",
		func(ctx context.Context, v visit, in *struct {
			ID int64 `path:"id" minimum:"1"`
		}) (*none, error) {
			return nil, w.service.Safety.EndVetting(ctx, v.caller, in.ID)
		})
	operate(w, "list-awaiting", forSignedIn, http.MethodGet, path+"/queue",
		"What awaits a decision; what was wanted last comes first",
		func(ctx context.Context, v visit, in *struct {
			Repository string `query:"repository" doc:"only what was asked of it"`
		}) (*answer[api.VettingQueue], error) {
			all, more, err := w.service.Vetting.Queue(ctx, v.caller, in.Repository)
			shown := api.VettingQueue{Waiting: []api.Waiting{}, More: more}
			for _, one := range all {
				shown.Waiting = append(shown.Waiting, showWaiting(one, v.caller.Name))
			}
			return &answer[api.VettingQueue]{shown}, err
		})
	operate(w, "ask-for-vetting", forSignedIn, http.MethodPost, path+"/queue", "Put a version before those who decide",
		func(ctx context.Context, v visit, in *answer[api.VettingWish]) (*answer[api.Assessment], error) {
			p, err := purl.Parse(in.Body.PURL)
			if err != nil {
				return nil, err
			}
			a, err := w.service.Vetting.Ask(ctx, v.caller, in.Body.Repository, p, in.Body.Purpose)
			return &answer[api.Assessment]{showAssessment(a)}, err
		})
	operate(w, "assess-version", toRead, http.MethodGet, "/api/v1/repositories/{name}/assessment",
		"How a version is decided about that a repository has or its upstream lists, and what is known of it",
		func(ctx context.Context, v visit, in *struct {
			ByName
			PURL  string `query:"purl" required:"true" maxLength:"1024" doc:"without a version: the newest release"`
			Needs bool   `query:"needs" doc:"with what it needs, in turn"`
		}) (*answer[api.Assessment], error) {
			p, err := purl.Parse(in.PURL)
			if err != nil {
				return nil, err
			}
			a, err := w.service.Vetting.Assess(ctx, v.caller, in.Name, p)
			if err == nil && in.Needs {
				err = w.service.Vetting.AddNeeds(ctx, &a)
			}
			return &answer[api.Assessment]{showAssessment(a)}, err
		})
}

// largestLocked is how many bytes a file may have that names what a build uses.
const largestLocked = 8 << 20

func (w *Server) addChecks() {
	operate(w, "check-versions", toRead, http.MethodPost, "/api/v1/repositories/{name}/check",
		"What whoever asked a repository for versions would be told",
		func(ctx context.Context, v visit, in *struct {
			ByName
			Body api.Versions
		}) (*answer[[]api.CheckedVersion], error) {
			all := make([]purl.PURL, len(in.Body.PURLs))
			for i, text := range in.Body.PURLs {
				p, err := purl.Parse(text)
				if err == nil && p.Version == "" {
					err = fault.New(fault.Invalid, "no-version", "%q names no version", text)
				}
				if err != nil {
					return nil, err
				}
				all[i] = p
			}
			checked, err := w.service.Vetting.Check(ctx, v.caller, in.Name, all)
			shown := make([]api.CheckedVersion, len(checked))
			for i, one := range checked {
				shown[i] = showChecked(one)
			}
			return &answer[[]api.CheckedVersion]{shown}, err
		})
	operate(w, "read-locked", forSignedIn, http.MethodPost, "/api/v1/locked",
		"Which versions a lock file, a list of requirements or a bill of materials names",
		func(_ context.Context, _ visit, in *struct {
			Name    string `query:"name" required:"true" maxLength:"200" doc:"what the file is called"`
			RawBody []byte `contentType:"application/octet-stream"`
		}) (*answer[api.LockedFile], error) {
			if len(in.RawBody) > largestLocked {
				return nil, fault.New(fault.Invalid, "too-large", "such a file has %s at most", api.Bytes(largestLocked)).
					WithHint("crelvo check reads larger ones.")
			}
			all, what, err := locked.Read(in.Name, in.RawBody)
			if err != nil {
				return nil, fault.New(fault.Invalid, "unknown-file", "%s: %v", in.Name, err).
					WithHint("Lock files, requirements, Maven's trees and bills of materials are read, by their usual names.")
			}
			shown := api.LockedFile{What: what, Packages: make([]api.LockedPackage, len(all))}
			for i, p := range all {
				shown.Packages[i] = api.LockedPackage{PURL: p.PURL.Typed(), Line: p.Line}
			}
			return &answer[api.LockedFile]{shown}, nil
		})
}

func showChecked(c vetting.Checked) api.CheckedVersion {
	shown := api.CheckedVersion{PURL: c.PURL.Typed(), State: "let in", Why: c.Unknown}
	refusal := (*safety.Refusal)(nil)
	switch {
	case c.Unknown != "":
		shown.State = "not known"
	case c.Refusal == nil:
	case errors.As(c.Refusal, &refusal):
		shown.State, shown.Why, shown.Hint = "kept out", refusal.Why, c.Refusal.Hint
		if refusal.Awaits {
			shown.State = "awaiting"
		}
	default:
		shown.State, shown.Why, shown.Hint = "not there", c.Refusal.Message, c.Refusal.Hint
	}
	return shown
}

func showVetting(v record.Vetting) api.Vetting {
	return api.Vetting{ID: v.ID, Decision: decision(v.Refused), Pattern: v.Pattern,
		Repositories: append([]string{}, v.Repositories...), Reason: v.Reason, By: v.By, MadeAt: v.MadeAt.UTC(),
		Until: utc(v.Until), EndedAt: utc(v.EndedAt), EndedBy: v.EndedBy}
}

func decision(refused bool) string {
	if refused {
		return "refused"
	}
	return "accepted"
}

func showWaiting(n vetting.Waiting, caller string) api.Waiting {
	shown := api.Waiting{Assessment: showAssessment(n.Assessment), FirstAt: n.FirstAt.UTC(),
		LastAt: n.LastAt.UTC(), Asked: n.Asked,
		WantedBy: []string{}, Purpose: n.Purpose, Unknown: n.Unknown, MayDecide: n.MayDecide}
	if n.Unknown != "" {
		shown.LetIn = false // nobody knows
	}
	for _, name := range n.By {
		if n.MayDecide || name == caller {
			shown.WantedBy = append(shown.WantedBy, name)
		}
	}
	return shown
}

func showAssessment(l vetting.Assessment) api.Assessment {
	shown := api.Assessment{Repository: l.Repository.At(), PURL: l.PURL.Typed(), LetIn: !l.Verdict.Refused,
		Ground: string(l.Verdict.Ground), Why: l.Verdict.Why, Rule: l.Verdict.Rule,
		Facts: showFacts(&l.Version, l.Facts, l.Findings), Rules: []api.TriedRule{}, Needs: []api.Need{}}
	if from := l.Verdict.From.UTC(); !from.IsZero() {
		shown.From = &from
	}
	if v := l.Verdict.Vetting; v != nil {
		shown.By = &api.Vetting{ID: v.ID, Decision: decision(v.Refused), Pattern: v.Pattern.String(),
			Repositories: append([]string{}, v.For...), Reason: v.Reason, By: v.By, MadeAt: v.MadeAt.UTC()}
		if !v.Until.IsZero() {
			until := v.Until.UTC()
			shown.By.Until = &until
		}
	}
	for i, tried := range l.Tried {
		rule := api.TriedRule{Rule: l.Rules[i].String(), Fits: true, Conditions: []api.TriedCondition{}}
		for _, c := range tried {
			rule.Fits = rule.Fits && c.Fits
			rule.Conditions = append(rule.Conditions, api.TriedCondition{Condition: c.Text, Fits: c.Fits, Fact: c.Fact})
		}
		shown.Rules = append(shown.Rules, rule)
	}
	for _, n := range l.Needs {
		shown.Needs = append(shown.Needs, showNeed(n))
	}
	if l.Before != nil {
		shown.Before = l.Before.Version
		facts := showFacts(l.Before, l.BeforeFacts, nil)
		shown.BeforeThat = &facts
	}
	return shown
}

func showNeed(n vetting.Need) api.Need {
	shown := api.Need{PURL: n.PURL.Typed(), Range: n.Range, By: n.By.Typed(), State: "let in", Why: n.Verdict.Why}
	switch {
	case n.Unknown != "":
		shown.State, shown.Why = "not known", n.Unknown
	case n.Absent:
		shown.State = "not there"
	case n.Verdict.Ground == core.Awaiting:
		shown.State = "awaiting"
	case n.Verdict.Refused:
		shown.State = "kept out"
	}
	return shown
}

func showFacts(v *catalog.Version, f core.Facts, findings []core.Finding) api.VersionFacts {
	shown := api.VersionFacts{Kept: f.Kept, Licences: append([]string{}, f.Licences...), RunsScripts: f.Runs,
		Downloads: f.Downloads, Looked: f.Looked, Maintainers: append([]string{}, f.Maintainers...),
		Files: len(v.Files), Authors: append([]string{}, v.Details.Authors...), Needs: []string{}, Findings: []api.Finding{},
		BuiltFrom: make([]api.Provenance, len(f.BuiltFrom))}
	for i, p := range f.BuiltFrom {
		shown.BuiltFrom[i] = api.Provenance{Source: p.Source, Ref: p.Ref, VerifiedBy: p.By}
	}
	if at := f.Published; !at.IsZero() && !at.Equal(catalog.LongAgo) {
		at = at.UTC()
		shown.PublishedAt = &at
	}
	for _, file := range v.Files {
		shown.Size += file.Digests.Size
	}
	for _, path := range f.Code {
		shown.Code = append(shown.Code, text.Clean(path, false, longestPath))
	}
	for _, d := range v.Details.Dependencies {
		if !vetting.Needed(d) {
			continue
		}
		need := purl.Typed(d.PURL)
		if d.Version != "" {
			need += " " + d.Version
		}
		shown.Needs = append(shown.Needs, need)
	}
	for _, finding := range findings {
		shown.Findings = append(shown.Findings, showFinding(finding))
	}
	return shown
}

func showAdmission(r core.Rules) api.Admission {
	shown := api.Admission{CooldownDays: int(r.Cooldown / day), Vetted: r.Vets, Accepts: []string{},
		AllowLicences:   append([]string{}, r.Licences.Allow...),
		RefuseLicences:  append([]string{}, r.Licences.Refuse...),
		UnstatedLicence: string(r.Licences.Unstated)}
	for _, a := range r.Accepts {
		shown.Accepts = append(shown.Accepts, a.String())
	}
	if shown.UnstatedLicence == "" {
		shown.UnstatedLicence = letIn
	}
	return shown
}

const (
	day   = 24 * time.Hour
	letIn = "let-in"
)

// admission is a change of what a repository lets in; nil if there is none.
func admission(c *api.AdmissionChange) (func(r *core.Rules), error) {
	if c == nil {
		return nil, nil
	}
	var accepts []core.Acceptance
	if c.Accepts != nil {
		for i, text := range *c.Accepts {
			a, err := core.ParseAcceptance(text)
			if err != nil {
				return nil, fault.New(fault.Invalid, "bad-rule", "rule %d cannot be read: %v", i+1, err).
					WithHint("Conditions stand with commas between them, as in: older-than 14d, licences MIT Apache-2.0.")
			}
			accepts = append(accepts, a)
		}
	}
	return func(r *core.Rules) {
		if c.CooldownDays != nil {
			r.Cooldown = time.Duration(*c.CooldownDays) * day
		}
		if c.Vetted != nil {
			r.Vets = *c.Vetted
		}
		if c.Accepts != nil {
			r.Accepts = accepts
		}
		if c.AllowLicences != nil {
			r.Licences.Allow = slices.Clone(*c.AllowLicences)
		}
		if c.RefuseLicences != nil {
			r.Licences.Refuse = slices.Clone(*c.RefuseLicences)
		}
		if c.UnstatedLicence != nil {
			r.Licences.Unstated = core.Unstated(*c.UnstatedLicence)
			if *c.UnstatedLicence == letIn {
				r.Licences.Unstated = core.UnstatedLetIn
			}
		}
	}, nil
}
