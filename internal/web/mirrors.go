package web

import (
	"context"
	"net/http"
	"time"

	"crelvo/internal/api"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/purl"
	"crelvo/internal/record"
	"crelvo/internal/service/act"
	"crelvo/internal/service/mirrors"
	"crelvo/internal/service/repositories"
)

func membersOf(members *[]api.Member) *[]repositories.NewMember {
	if members == nil {
		return nil
	}
	named := []repositories.NewMember{}
	for _, m := range *members {
		named = append(named, repositories.NewMember(m))
	}
	return &named
}

func utc(t *time.Time) *time.Time {
	if t == nil {
		return nil
	}
	in := t.UTC()
	return &in
}

func showHour(h record.MirrorHour) api.Hour {
	shown := api.Hour{Hour: h.Hour.UTC(), Hits: h.Hits, Misses: h.Misses, Stale: h.Stale, Failures: h.Failures,
		Requests:    h.Requests,
		BytesServed: h.BytesServed, BytesFetched: h.BytesFetched}
	if h.Requests > 0 {
		shown.FirstByteSeconds = float64(h.FirstByteUS) / float64(h.Requests) / 1e6
	}
	return shown
}

func (w *Server) addMirrors() {
	const path = "/api/v1/repositories/{name}"
	operate(w, "mirror-state", toRead, http.MethodGet, path+"/mirror", "How a mirror is",
		func(ctx context.Context, v visit, in *struct {
			ByName
			Hours int `query:"hours" minimum:"1" maximum:"1440" default:"24"`
		}) (*answer[api.MirrorState], error) {
			state, err := w.service.Mirrors.MirrorState(ctx, v.caller, in.Name, in.Hours)
			if err != nil {
				return nil, err
			}
			return &answer[api.MirrorState]{showState(state, w.service.Now())}, nil
		})
	operate(w, "check-mirror", forAdmin, http.MethodPost, "/api/v1/mirrors/check", "Try upstreams before they are saved",
		func(ctx context.Context, v visit, in *answer[api.Check]) (*answer[[]api.Checked], error) {
			r := catalog.Repository{Kind: catalog.Mirror, Ecosystem: in.Body.Ecosystem, Holds: catalog.Both}
			if in.Body.Mirror != nil {
				r.Mirror = new(catalog.MirrorSettings)
				applyMirror(in.Body.Mirror, r.Mirror)
			}
			var sample purl.PURL
			if in.Body.PURL != "" {
				var err error
				if sample, err = purl.Parse(in.Body.PURL); err != nil {
					return nil, err
				}
			}
			checked, err := w.service.Mirrors.CheckMirror(ctx, v.caller, r, in.Body.Like, sample)
			shown := []api.Checked{}
			for _, c := range checked {
				shown = append(shown, api.Checked{URL: c.URL, Private: c.Private, OK: c.OK, Said: c.Said,
					Seconds: c.Took.Seconds()})
			}
			return &answer[[]api.Checked]{shown}, err
		})
	operate(w, "try-patterns", toRead, http.MethodPost, path+"/try", "Whether the patterns of a mirror let something in",
		func(ctx context.Context, v visit, in *struct {
			ByName
			Body api.Try
		}) (*answer[api.Tried], error) {
			p, err := purl.Parse(in.Body.PURL)
			if err != nil {
				return nil, err
			}
			var allow, deny []string
			if in.Body.Allow != nil || in.Body.Deny != nil {
				allow, deny = []string{}, []string{}
				act.Set(&allow, in.Body.Allow)
				act.Set(&deny, in.Body.Deny)
			}
			admission, err := w.service.Mirrors.TryPatterns(v.caller, in.Name, p, allow, deny)
			return &answer[api.Tried]{api.Tried{PURL: p.String(), Allowed: admission.Allowed, Why: admission.Why}}, err
		})
	operate(w, "forget", toRemove, http.MethodPost, path+"/forget",
		"Drop the copies of a package or version from a mirror",
		func(ctx context.Context, v visit, in *struct {
			ByName
			Body api.Forget
		}) (*answer[api.Forgotten], error) {
			p, err := purl.Parse(in.Body.PURL)
			if err != nil {
				return nil, err
			}
			forgotten, err := w.service.Mirrors.Forget(ctx, v.caller, in.Name, p)
			return &answer[api.Forgotten]{api.Forgotten{PURL: p.String(), Copies: forgotten.Copies,
				Documents: forgotten.Documents}}, err
		})
}

// addChanges tells whoever follows a repository what changed.
func (w *Server) addChanges() {
	operate(w, "repository-changes", toRead, http.MethodGet, "/api/v1/repositories/{name}/changes",
		"Which packages changed after a change, for whoever follows a repository",
		func(ctx context.Context, v visit, in *struct {
			ByName
			Ecosystem string `query:"ecosystem" required:"true" maxLength:"30"`
			After     int64  `query:"after" minimum:"0" doc:"a number that was told before; 0 begins"`
			Limit     int    `query:"limit" minimum:"1" maximum:"1000" default:"500"`
		}) (*answer[api.Changes], error) {
			c, err := w.service.Repositories.Changes(ctx, v.caller, in.Name, in.Ecosystem, in.After, in.Limit)
			shown := api.Changes{Complete: c.Complete, Number: c.Number, Left: c.Left, Changes: []api.PackageChange{}}
			for _, one := range c.Some {
				of := purl.PURL{Ecosystem: one.Ecosystem, Namespace: one.Namespace, Name: one.Name}
				shown.Changes = append(shown.Changes, api.PackageChange{Number: one.Number, PURL: of.String(), At: one.At.UTC()})
			}
			return &answer[api.Changes]{shown}, err
		})
}

func showState(state mirrors.State, now time.Time) api.MirrorState {
	shown := api.MirrorState{Name: state.Repository.Name,
		Contacts: showMirror(state.Repository, state.Contacts, now).Contacts,
		Hours:    []api.Hour{}, Stale: []api.StaleDoc{}, StaleTotal: state.StaleTotal}
	if f := state.Following; f != nil {
		shown.Following = &api.Following{Number: f.Number, Behind: f.Behind, Oldest: utc(f.Oldest), DoneAt: utc(f.DoneAt),
			AskedAt: utc(f.AskedAt), Failure: f.Failure}
	}
	var total record.MirrorHour
	for _, h := range state.Hours {
		shown.Hours = append(shown.Hours, showHour(h))
		total.Hits, total.Misses, total.Stale, total.Failures = total.Hits+h.Hits, total.Misses+h.Misses, total.Stale+h.Stale,
			total.Failures+h.Failures
		total.Requests, total.FirstByteUS = total.Requests+h.Requests, total.FirstByteUS+h.FirstByteUS
		total.BytesServed, total.BytesFetched = total.BytesServed+h.BytesServed, total.BytesFetched+h.BytesFetched
		if total.Hour.IsZero() {
			total.Hour = h.Hour
		}
	}
	shown.Total = showHour(total)
	for _, d := range state.Stale {
		shown.Stale = append(shown.Stale, api.StaleDoc{Path: d.Path, CheckedAt: d.CheckedAt.UTC(), FailedAt: d.FailedAt.UTC(),
			Failure: d.Failure})
	}
	return shown
}

func showRun(r record.PrefetchRun) (api.PrefetchRun, error) {
	lines, err := r.Report()
	shown := api.PrefetchRun{ID: r.ID, BegunBy: r.BegunBy, BegunAt: r.BegunAt.UTC(), EndedAt: utc(r.EndedAt),
		State: "running", Failure: r.Failure,
		Planned: r.Planned, Came: r.Came, There: r.There, Failed: r.Failed, Bytes: r.Bytes, Report: []api.PrefetchLine{}}
	switch {
	case r.Failure != "":
		shown.State = "failed"
	case r.EndedAt != nil:
		shown.State = "done"
	}
	for _, l := range lines {
		shown.Report = append(shown.Report, api.PrefetchLine(l))
	}
	return shown, err
}

func (w *Server) addPrefetch() {
	const path = "/api/v1/repositories/{name}"
	operate(w, "list-prefetch-runs", toRead, http.MethodGet, path+"/prefetch", "The last runs of a mirror's prefetch rule",
		func(ctx context.Context, v visit, in *struct {
			ByName
			Limit int `query:"limit" minimum:"1" maximum:"100" default:"10"`
		}) (*answer[[]api.PrefetchRun], error) {
			runs, err := w.service.Mirrors.PrefetchRuns(ctx, v.caller, in.Name, in.Limit)
			shown := []api.PrefetchRun{}
			for _, r := range runs {
				one, err := showRun(r)
				if err != nil {
					return nil, err
				}
				shown = append(shown, one)
			}
			return &answer[[]api.PrefetchRun]{shown}, err
		})
	operate(w, "prefetch", toManage, http.MethodPost, path+"/prefetch", "Run a mirror's prefetch rule now",
		func(ctx context.Context, v visit, in *ByName) (*answer[api.PrefetchRun], error) {
			run, err := w.service.Mirrors.Prefetch(ctx, v.caller, in.Name)
			if err != nil {
				return nil, err
			}
			run.RawReport = []byte("[]")
			shown, err := showRun(run)
			return &answer[api.PrefetchRun]{shown}, err
		})
}
