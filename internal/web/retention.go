package web

import (
	"bufio"
	"context"
	"encoding/csv"
	"encoding/json"
	"net/http"
	"reflect"
	"strconv"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/labstack/echo/v5"

	"crelvo/internal/api"
	"crelvo/internal/core/access"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/purl"
	coreretention "crelvo/internal/core/retention"
	"crelvo/internal/record"
	"crelvo/internal/service/retention"
	"crelvo/internal/service/schedule"
)

func (w *Server) addRetention() {
	w.addPolicies()
	w.addPlans()
	w.addSweeps()
	w.addPins()
	w.addRemoval()
	operate(w, "reclaim", forAdmin, http.MethodPost, "/api/v1/reclaimings", "Free the bytes that nothing names",
		func(ctx context.Context, v visit, in *struct {
			Now bool `query:"now" doc:"also those that were not marked by an earlier run"`
		}) (*answer[api.Reclaiming], error) {
			run, err := w.service.Retention.Reclaim(ctx, v.caller, in.Now)
			return &answer[api.Reclaiming]{showReclaiming(run)}, err
		})
	operate(w, "list-reclaimings", forAdmin, http.MethodGet, "/api/v1/reclaimings", "The last runs that freed bytes",
		func(ctx context.Context, v visit, _ *none) (*answer[[]api.Reclaiming], error) {
			runs, err := w.service.Retention.Reclaimings(ctx, v.caller, 50)
			all := []api.Reclaiming{}
			for _, run := range runs {
				all = append(all, showReclaiming(run))
			}
			return &answer[[]api.Reclaiming]{all}, err
		})
}

func showReclaiming(r record.Reclaiming) api.Reclaiming {
	return api.Reclaiming{ID: r.ID, BegunBy: r.BegunBy, BegunAt: r.BegunAt.UTC(), EndedAt: utc(r.EndedAt),
		Failure:  r.Failure,
		Versions: r.Versions, Marked: r.Marked, Files: r.Files, Bytes: r.Bytes}
}

// PolicyName names a policy. It is exported for the sake of the reflection that
// reads inputs.
type PolicyName struct {
	Policy string `path:"policy" maxLength:"63"`
}

func (w *Server) addPolicies() {
	const path = "/api/v1/policies"
	operate(w, "list-policies", forSignedIn, http.MethodGet, path,
		"The retention policies that are about something that the caller may read all of",
		func(ctx context.Context, v visit, _ *none) (*answer[[]api.Policy], error) {
			views, err := w.service.Retention.Policies(ctx, v.caller)
			all := []api.Policy{}
			for _, p := range views {
				all = append(all, showPolicy(p))
			}
			return &answer[[]api.Policy]{all}, err
		})
	operate(w, "list-reasons", forAnyone, http.MethodGet, "/api/v1/reasons",
		"How a policy is written: its settings, and the reasons to stay",
		func(context.Context, visit, *none) (*answer[api.PolicyForms], error) {
			return &answer[api.PolicyForms]{api.PolicyForms{Settings: coreretention.Settings, Reasons: coreretention.Forms}}, nil
		})
	operate(w, "show-policy", forSignedIn, http.MethodGet, path+"/{policy}", "A retention policy",
		func(ctx context.Context, v visit, in *PolicyName) (*answer[api.Policy], error) {
			p, err := w.service.Retention.Policy(ctx, v.caller, in.Policy)
			return &answer[api.Policy]{showPolicy(p)}, err
		})
	operate(w, "set-policy", forSignedIn, http.MethodPut, path, "Make a retention policy, or change the one of that name",
		func(ctx context.Context, v visit, in *answer[api.SetPolicy]) (*answer[api.Policy], error) {
			text, err := policyText(in.Body.Text, in.Body.Rules)
			if err != nil {
				return nil, err
			}
			p, _, err := w.service.Retention.SetPolicy(ctx, v.caller, text, in.Body.Paused)
			return &answer[api.Policy]{showPolicy(p)}, err
		})
	operate(w, "remove-policy", forSignedIn, http.MethodDelete, path+"/{policy}",
		"Remove a retention policy; what it swept stays as it is",
		func(ctx context.Context, v visit, in *PolicyName) (*none, error) {
			return nil, w.service.Retention.RemovePolicy(ctx, v.caller, in.Policy)
		})
}

// policyText is a policy as it is written, or its settings written so.
func policyText(text string, rules *api.Rules) (string, error) {
	if rules == nil {
		return text, nil
	}
	if text != "" {
		return "", fault.New(fault.Invalid, "bad-policy", "a policy is given as text or as rules, not as both")
	}
	p := coreretention.Policy{Name: rules.Name, Description: rules.Description, Repositories: rules.Repositories,
		Platforms: rules.Platforms, Where: rules.Where, Grace: coreretention.DefaultGrace,
		Schedule: rules.Schedule, Zone: rules.Zone, MostVersions: rules.MostVersions, MostShare: rules.MostShare}
	for _, pattern := range rules.Packages {
		parsed, err := purl.ParsePattern(pattern)
		if err != nil {
			return "", err
		}
		p.Packages = append(p.Packages, parsed)
	}
	for _, reason := range rules.Keep {
		parsed, err := coreretention.ParseReason(reason)
		if err != nil {
			return "", err
		}
		p.Keep = append(p.Keep, parsed)
	}
	if rules.Grace != "" {
		grace, err := coreretention.ParseLength(rules.Grace)
		if err != nil {
			return "", fault.New(fault.Invalid, "bad-policy", "the grace: %v", err)
		}
		p.Grace = grace
	}
	return p.Text(), nil
}

func showPolicy(v retention.PolicyView) api.Policy {
	p := api.Policy{Name: v.Name, Text: v.Text, Description: v.Rules.Description, Repositories: v.Rules.Repositories,
		About: []string{}, Packages: []string{}, Platforms: v.Rules.Platforms, Where: v.Rules.Where, Keep: []string{},
		Grace: coreretention.WriteLength(v.Rules.Grace), Schedule: v.Rules.Schedule, Zone: v.Rules.Zone,
		Next:         append([]time.Time{}, v.Next...),
		MostVersions: v.Rules.MostVersions, MostShare: v.Rules.MostShare, Paused: v.Paused, ChangedBy: v.ChangedBy,
		ChangedAt: v.ChangedAt.UTC(), May: v.May}
	p.About = names(v.About)
	for _, pattern := range v.Rules.Packages {
		p.Packages = append(p.Packages, pattern.String())
	}
	for i := range v.Rules.Keep {
		p.Keep = append(p.Keep, v.Rules.Keep[i].String())
	}
	if v.Last != nil {
		last := showSweep(retention.SweepView{Sweep: *v.Last, Repositories: v.About, May: v.May})
		p.Last = &last
	}
	return p
}

func names(repositories []catalog.Repository) []string {
	all := make([]string, len(repositories))
	for i, r := range repositories {
		all[i] = r.Name
	}
	return all
}

func (w *Server) addPlans() {
	operate(w, "plan-sweep", forSignedIn, http.MethodPost, "/api/v1/sweeps/plans",
		"What a policy, saved or not, would do now or as of another moment",
		func(ctx context.Context, v visit, in *answer[api.PlanRequest]) (*answer[api.SweepPlan], error) {
			lines, found := []api.PlanLine{}, 0
			plan, err := w.plan(ctx, v.caller, in.Body, func(l *retention.PlanLine) error {
				if !listed(l, in.Body) {
					return nil
				}
				if found++; found > in.Body.Skip && len(lines) < in.Body.Limit {
					lines = append(lines, showLine(l))
				}
				return nil
			})
			if err != nil {
				return nil, err
			}
			shown := showPlan(plan)
			shown.Lines, shown.Found = lines, found
			return &answer[api.SweepPlan]{shown}, nil
		})
	const path = "/api/v1/sweeps/plans/lines"
	w.api.OpenAPI().AddOperation(&huma.Operation{OperationID: "plan-sweep-lines", Method: http.MethodPost, Path: path,
		Summary: "Every version of a plan, as lines of JSON or, if that is asked for, of CSV",
		RequestBody: &huma.RequestBody{Required: true,
			Content: map[string]*huma.MediaType{"application/json": {Schema: w.api.OpenAPI().
				Components.Schemas.Schema(reflect.TypeFor[api.PlanRequest](), true, "")}}},
		Responses: map[string]*huma.Response{
			"200": {Description: "Lines", Content: map[string]*huma.MediaType{"application/x-ndjson": {Schema: w.api.OpenAPI().
				Components.Schemas.Schema(reflect.TypeFor[api.PlanLine](), true, "")},
				"text/csv": {Schema: &huma.Schema{Type: "string"}}}},
			"default": {Description: "Error",
				Content: map[string]*huma.MediaType{"application/problem+json": {Schema: w.api.OpenAPI().
					Components.Schemas.Schema(reflect.TypeFor[api.Problem](), true, "")}}}}})
	w.guarded(http.MethodPost, path, forSignedIn, w.planLines)
}

func (w *Server) plan(
	ctx context.Context, caller access.Caller, in api.PlanRequest, line func(*retention.PlanLine) error,
) (*retention.SweepPlan, error) {
	text := in.Text
	if in.Policy != "" && text == "" {
		p, err := w.service.Retention.Policy(ctx, caller, in.Policy)
		if err != nil {
			return nil, err
		}
		text = p.Text
	}
	asOf, err := w.moment(in.AsOf, false)
	if err != nil {
		return nil, err
	}
	return w.service.Retention.PlanSweep(ctx, caller, text, asOf, line)
}

// listed tells whether a version is among those that were asked for.
func listed(l *retention.PlanLine, in api.PlanRequest) bool {
	return (in.Fate == "" || l.Fate.String() == in.Fate) &&
		(in.Match == "" || strings.Contains(strings.ToLower(l.Package.String()+"@"+l.Version.Version),
			strings.ToLower(in.Match)))
}

func showLine(l *retention.PlanLine) api.PlanLine {
	of := l.Package
	of.Version = l.Version.Version
	line := api.PlanLine{Repository: l.Repository.Name, PURL: of.String(), Upload: l.Upload, Fate: l.Fate.String(),
		Reason: l.Reason, At: l.At.UTC(),
		Users: l.Users, Bytes: l.Bytes, Freed: l.Freed}
	if l.Fate == coreretention.Kept {
		line.Policy = l.Policy
	}
	if !l.UsedAt.IsZero() {
		at := l.UsedAt.UTC()
		line.UsedAt = &at
	}
	return line
}

func showPlan(p *retention.SweepPlan) api.SweepPlan {
	totals := func(all []retention.PlanTotal) []api.PlanTotal {
		shown := make([]api.PlanTotal, len(all))
		for i, t := range all {
			shown[i] = api.PlanTotal(t)
		}
		return shown
	}
	shown := api.SweepPlan{Policy: p.Policy.Name, At: p.At.UTC(), Total: api.PlanTotal(p.Total),
		Repositories: totals(p.Repositories), Ecosystems: totals(p.Ecosystems),
		Packages: totals(p.Packages), Reasons: totals(p.Reasons), Months: totals(p.Months),
		Asks: append([]string{}, p.Asks...), Then: p.Then, New: p.New, Next: []time.Time{}}
	if p.Last != nil {
		last := showSweep(retention.SweepView{Sweep: *p.Last})
		shown.Last = &last
	}
	if p.Policy.Schedule != "" {
		if next, err := schedule.NextTimes(p.Policy.Schedule, p.Policy.Zone, p.At, 5); err == nil {
			shown.Next = append(shown.Next, next...)
		}
	}
	return shown
}

// planLines answers with every version of a plan, a line of JSON or CSV each: a
// plan may be longer than what anybody wants to hold.
func (w *Server) planLines(c *echo.Context, caller access.Caller, _ catalog.Repository) error {
	var in api.PlanRequest
	if err := json.NewDecoder(http.MaxBytesReader(c.Response(), c.Request().Body, 1<<20)).Decode(&in); err != nil {
		return fault.New(fault.Invalid, "bad-input", "the request cannot be read: %v", err).
			WithHint("Send what POST /api/v1/sweeps/plans takes.")
	}
	asCSV := strings.Contains(c.Request().Header.Get("Accept"), "text/csv")
	out := &lines{response: c.Response(), csv: asCSV}
	_, err := w.plan(c.Request().Context(), caller, in, func(l *retention.PlanLine) error {
		if !listed(l, in) {
			return nil
		}
		return out.write(showLine(l))
	})
	if out.begun && err != nil {
		// The answer cannot be taken back any more; it must not look whole.
		panic(http.ErrAbortHandler)
	}
	if err != nil {
		return err
	}
	return out.end()
}

// lines writes the lines of a plan; the answer begins with the first.
type lines struct {
	response http.ResponseWriter
	csv      bool
	begun    bool
	buffer   *bufio.Writer
	json     *json.Encoder
	table    *csv.Writer
}

func (l *lines) begin() error {
	l.begun = true
	l.buffer = bufio.NewWriterSize(l.response, 64<<10)
	l.response.Header().Set("Cache-Control", "no-store")
	if !l.csv {
		l.response.Header().Set("Content-Type", "application/x-ndjson")
		l.json = json.NewEncoder(l.buffer)
		return nil
	}
	l.response.Header().Set("Content-Type", "text/csv; charset=utf-8")
	l.table = csv.NewWriter(l.buffer)
	return l.table.Write([]string{"repository", "purl", "upload", "fate", "reason", "policy", "published",
		"downloaded last", "users", "bytes", "freed bytes"})
}

func (l *lines) write(line api.PlanLine) error {
	if !l.begun {
		if err := l.begin(); err != nil {
			return err
		}
	}
	if !l.csv {
		return l.json.Encode(line)
	}
	used := ""
	if line.UsedAt != nil {
		used = line.UsedAt.Format(time.RFC3339)
	}
	return l.table.Write([]string{line.Repository, line.PURL, line.Upload, line.Fate, line.Reason, line.Policy,
		line.At.Format(time.RFC3339), used,
		strconv.FormatInt(line.Users, 10), strconv.FormatInt(line.Bytes, 10), strconv.FormatInt(line.Freed, 10)})
}

func (l *lines) end() error {
	if !l.begun {
		if err := l.begin(); err != nil {
			return err
		}
	}
	if l.csv {
		l.table.Flush()
	}
	return l.buffer.Flush()
}

func (w *Server) addRemoval() {
	operate(w, "remove-version", toRemove, http.MethodPost, "/api/v1/repositories/{name}/removals",
		"Take a version out of use; it can be brought back from the sweep that is given",
		func(ctx context.Context, v visit, in *struct {
			ByName
			Body api.RemoveVersion
		}) (*answer[api.Sweep], error) {
			p, err := purl.Parse(in.Body.PURL)
			if err != nil || p.Version == "" {
				return nil, fault.New(fault.Invalid, "bad-purl", "%q is no package URL with a version", in.Body.PURL).
					WithHint("Write it like pkg:npm/%%40skerry/deck-ui@2.1.0.")
			}
			view, err := w.service.Retention.RemoveVersion(ctx, v.caller, in.Name, p)
			return &answer[api.Sweep]{showSweep(view)}, err
		})
}

// SweepID names a sweep.
type SweepID struct {
	ID int64 `path:"id"`
}

func (w *Server) addSweeps() {
	const path = "/api/v1/sweeps"
	operate(w, "list-sweeps", forSignedIn, http.MethodGet, path,
		"Sweeps of what the caller may read all of, the newest first",
		func(ctx context.Context, v visit, in *struct {
			Policy string `query:"policy" maxLength:"63"`
			State  string `query:"state" enum:"asking,underway,done,cancelled,failed"`
			Before int64  `query:"before"`
			Limit  int    `query:"limit" minimum:"1" maximum:"500" default:"50"`
		}) (*answer[[]api.Sweep], error) {
			f := record.SweepFilter{Policy: in.Policy, Before: in.Before, Limit: in.Limit}
			if in.State != "" {
				f.States = []string{in.State}
			}
			views, err := w.service.Retention.Sweeps(ctx, v.caller, f)
			all := []api.Sweep{}
			for _, s := range views {
				all = append(all, showSweep(s))
			}
			return &answer[[]api.Sweep]{all}, err
		})
	operate(w, "run-sweep", forSignedIn, http.MethodPost, path, "Sweep by a policy, in the background",
		func(ctx context.Context, v visit, in *answer[api.RunSweep]) (*answer[api.Sweep], error) {
			sweep, err := w.service.Retention.Sweep(ctx, v.caller, in.Body.Policy, in.Body.GoOn)
			if err != nil {
				return nil, err
			}
			view, err := w.service.Retention.SweepByID(ctx, v.caller, sweep.ID)
			return &answer[api.Sweep]{showSweep(view)}, err
		})
	operate(w, "show-sweep", forSignedIn, http.MethodGet, path+"/{id}", "A sweep, with some of what it took",
		func(ctx context.Context, v visit, in *struct {
			SweepID
			State string `query:"state" enum:"planned,removed,spared,back,reclaimed"`
			After int    `query:"after" default:"-1"`
			Limit int    `query:"limit" minimum:"1" maximum:"5000" default:"200"`
		}) (*answer[api.SweepPage], error) {
			view, err := w.service.Retention.SweepByID(ctx, v.caller, in.ID)
			if err != nil {
				return nil, err
			}
			f := record.ItemFilter{After: in.After, Limit: in.Limit}
			if in.State != "" {
				f.States = []string{in.State}
			}
			items, err := w.service.Retention.SweepItems(ctx, v.caller, view, f)
			page := api.SweepPage{Sweep: showSweep(view), Items: []api.SweepItem{}}
			for _, item := range items {
				page.Items = append(page.Items, w.showItem(item))
			}
			if len(items) == in.Limit {
				page.After = &items[len(items)-1].Position
			}
			return &answer[api.SweepPage]{page}, err
		})
	operate(w, "stop-sweep", forSignedIn, http.MethodPost, path+"/{id}/stop", "Stop a sweep that asks or is under way",
		func(ctx context.Context, v visit, in *SweepID) (*answer[api.Sweep], error) {
			view, err := w.service.Retention.StopSweep(ctx, v.caller, in.ID)
			return &answer[api.Sweep]{showSweep(view)}, err
		})
	operate(w, "undo-sweep", forSignedIn, http.MethodPost, path+"/{id}/undo", "Bring back what a sweep took, all or some",
		func(ctx context.Context, v visit, in *struct {
			SweepID
			Body api.UndoSweep
		}) (*answer[api.Undone], error) {
			back, err := w.service.Retention.UndoSweep(ctx, v.caller, in.ID, in.Body.PURLs)
			undone := api.Undone{Back: back.Back, Not: []api.NotBack{}}
			for _, n := range back.Not {
				undone.Not = append(undone.Not, api.NotBack{PURL: sweptPURL(n.Item), Why: n.Why})
			}
			return &answer[api.Undone]{undone}, err
		})
}

func showSweep(v retention.SweepView) api.Sweep {
	return api.Sweep{ID: v.ID, Policy: v.Policy, State: v.State, Why: v.Why, Repositories: names(v.Repositories),
		BegunBy: v.BegunBy, BegunAt: v.BegunAt.UTC(), EndedAt: utc(v.EndedAt),
		Grace: coreretention.WriteLength(v.Grace), Versions: v.Versions, Bytes: v.Bytes, Freed: v.Freed, Done: v.Done,
		Spared: v.Spared, Back: v.Back, Reclaimed: v.Reclaimed, May: v.May}
}

func sweptPURL(i record.SweepItem) string {
	return purl.PURL{Ecosystem: i.Ecosystem, Namespace: i.Namespace, Name: i.Name, Version: i.Version}.String()
}

func (w *Server) showItem(i record.SweepItem) api.SweepItem {
	r, _ := w.service.Directory.RepositoryByID(i.RepositoryID)
	item := api.SweepItem{Repository: r.Name, PURL: sweptPURL(i), Upload: i.Upload, State: i.State, Note: i.Note,
		At: utc(i.At), UsedAt: utc(i.UsedAt),
		Users: i.Users, Bytes: i.Bytes, Freed: i.Freed, Position: i.Position}
	if i.State == record.ItemRemoved {
		item.GraceUntil = utc(i.GraceUntil)
	}
	return item
}

func (w *Server) addPins() {
	operate(w, "list-pins", forSignedIn, http.MethodGet, "/api/v1/pins", "What is kept from every sweep",
		func(ctx context.Context, v visit, _ *none) (*answer[[]api.Pin], error) {
			pins, err := w.service.Retention.Pins(ctx, v.caller)
			all := []api.Pin{}
			for _, p := range pins {
				r, _ := w.service.Directory.RepositoryByID(p.RepositoryID)
				all = append(all, api.Pin{PURL: purl.PURL{Ecosystem: p.Ecosystem, Namespace: p.Namespace, Name: p.Name,
					Version: p.Version}.String(), Repository: r.Name,
					Reason: p.Reason, By: p.By, At: p.At.UTC(), Until: utc(p.Until)})
			}
			return &answer[[]api.Pin]{all}, err
		})
	operate(w, "set-pin", forSignedIn, http.MethodPut, "/api/v1/pins",
		"Keep a version from every sweep, or take the pin off",
		func(ctx context.Context, v visit, in *answer[api.SetPin]) (*none, error) {
			p, err := purl.Parse(in.Body.PURL)
			if err != nil || p.Version == "" {
				return nil, fault.New(fault.Invalid, "bad-purl", "%q is no package URL with a version", in.Body.PURL).
					WithHint("Write it like pkg:npm/%%40skerry/deck-ui@2.1.0.")
			}
			if in.Body.Off {
				return nil, w.service.Retention.Unpin(ctx, v.caller, in.Body.Repository, p.Ecosystem, p.Namespace, p.Name,
					p.Version)
			}
			var until *time.Time
			if in.Body.Until != "" {
				at, err := w.moment(in.Body.Until, true)
				if err != nil {
					return nil, err
				}
				until = &at
			}
			return nil, w.service.Retention.Pin(ctx, v.caller, in.Body.Repository, p.Ecosystem, p.Namespace, p.Name, p.Version,
				in.Body.Reason, until)
		})
}
