package web

import (
	"context"
	"net/http"
	"net/url"
	"time"

	"crelvo/internal/api"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/purl"
	"crelvo/internal/record"
	"crelvo/internal/service/act"
	"crelvo/internal/service/mirrors"
	"crelvo/internal/service/repositories"
	"crelvo/internal/service/schedule"
)

func newRepository(n api.NewRepository) repositories.NewRepository {
	made := repositories.NewRepository{Repository: catalog.Repository{Name: n.Name, Kind: catalog.Kind(n.Kind), Holds: catalog.Holds(n.Holds),
		Ecosystem: n.Ecosystem, Description: n.Description, AnonymousRead: n.AnonymousRead, OnlyBuilds: n.OnlyBuilds, OnlyRobots: n.OnlyRobots, Closed: n.Closed, LargestFile: n.LargestFile}}
	if n.Mirror != nil {
		made.Mirror = new(catalog.MirrorSettings)
		applyMirror(n.Mirror, made.Mirror)
	}
	if c := n.Chain; c != nil {
		if members := membersOf(c.Members); members != nil {
			made.Members = *members
		}
		act.Set(&made.ReleasesTo, c.ReleasesTo)
		act.Set(&made.SnapshotsTo, c.SnapshotsTo)
		act.Set(&made.OpenMembers, c.OpenMembers)
	}
	return made
}

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

// applyMirror writes what a change says into settings.
func applyMirror(c *api.MirrorChange, m *catalog.MirrorSettings) {
	if c.Upstreams != nil {
		m.Upstreams = nil
		for _, u := range *c.Upstreams {
			m.Upstreams = append(m.Upstreams, catalog.Upstream{URL: u})
		}
	}
	for _, d := range []struct {
		from *float64
		to   *time.Duration
	}{{c.FreshSeconds, &m.Freshness}, {c.AbsentSeconds, &m.AbsentFor}, {c.ConnectSeconds, &m.Connect},
		{c.FirstByteSeconds, &m.FirstByte}, {c.SilenceSeconds, &m.Silence}} {
		if d.from != nil {
			*d.to = time.Duration(*d.from * float64(time.Second))
		}
	}
	act.Set(&m.Parallel, c.Parallel)
	act.Set(&m.Largest, c.LargestBytes)
	act.Set(&m.Proxy, c.Proxy)
	act.Set(&m.RedirectTo, c.RedirectTo)
	act.Set(&m.Allow, c.Allow)
	act.Set(&m.Deny, c.Deny)
	act.Set(&m.User, c.User)
	act.Set(&m.Secret, c.Secret)
	if p := c.Prefetch; p != nil {
		act.Set(&m.Prefetch.Patterns, p.Patterns)
		act.Set(&m.Prefetch.Schedule, p.Schedule)
		act.Set(&m.Prefetch.Zone, p.Zone)
		act.Set(&m.Prefetch.Newest, p.Newest)
	}
}

const shownTimes = 5

func showMirror(r catalog.Repository, contacts []record.UpstreamContact, now time.Time) *api.Mirror {
	m := r.Mirror
	shown := &api.Mirror{Upstreams: []string{}, FreshSeconds: m.Freshness.Seconds(), AbsentSeconds: m.AbsentFor.Seconds(),
		ConnectSeconds: m.Connect.Seconds(), FirstByteSeconds: m.FirstByte.Seconds(), SilenceSeconds: m.Silence.Seconds(),
		Parallel: m.Parallel, LargestBytes: m.Largest, RedirectTo: append([]string{}, m.RedirectTo...),
		Allow: append([]string{}, m.Allow...), Deny: append([]string{}, m.Deny...), User: m.User, HasSecret: m.Secret != "",
		Prefetch: api.Prefetch{Patterns: append([]string{}, m.Prefetch.Patterns...), Schedule: m.Prefetch.Schedule,
			Zone: m.Prefetch.Zone, Newest: m.Prefetch.Newest, Next: []time.Time{}},
		Contacts: []api.Contact{}}
	if proxy, err := url.Parse(m.Proxy); err == nil {
		shown.Proxy = proxy.Redacted()
	}
	if m.Prefetch.Schedule != "" {
		if next, err := schedule.NextTimes(m.Prefetch.Schedule, m.Prefetch.Zone, now, shownTimes); err == nil {
			shown.Prefetch.Next = next
		}
	}
	for _, u := range m.Upstreams {
		shown.Upstreams = append(shown.Upstreams, u.URL)
		of := record.UpstreamContact{URL: u.URL}
		for _, c := range contacts {
			if c.URL == u.URL {
				of = c
			}
		}
		shown.Contacts = append(shown.Contacts, showContact(of, u.Private))
	}
	return shown
}

func showContact(c record.UpstreamContact, private bool) api.Contact {
	shown := api.Contact{URL: c.URL, Private: private, State: "unknown", ContactAt: utc(c.ContactAt), FailedAt: utc(c.FailedAt), Failure: c.Failure,
		FailingSince: utc(c.FailingSince), RetryAt: utc(c.RetryAt), FirstByteSeconds: float64(c.LatencyUS) / 1e6}
	switch {
	case c.FailingSince != nil:
		shown.State = "failing"
	case c.ContactAt != nil:
		shown.State = "ok"
	}
	return shown
}

func utc(t *time.Time) *time.Time {
	if t == nil {
		return nil
	}
	in := t.UTC()
	return &in
}

func showHour(h record.MirrorHour) api.Hour {
	shown := api.Hour{Hour: h.Hour.UTC(), Hits: h.Hits, Misses: h.Misses, Stale: h.Stale, Failures: h.Failures, Requests: h.Requests,
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
	operate(w, "check-mirror", forAdmin, http.MethodPost, "/api/v1/mirror-check", "Try upstreams before they are saved",
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
				shown = append(shown, api.Checked{URL: c.URL, Private: c.Private, OK: c.OK, Said: c.Said, Seconds: c.Took.Seconds()})
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
	operate(w, "forget", toRemove, http.MethodPost, path+"/forget", "Drop the copies of a package or version from a mirror",
		func(ctx context.Context, v visit, in *struct {
			ByName
			Body api.Forget
		}) (*answer[api.Forgotten], error) {
			p, err := purl.Parse(in.Body.PURL)
			if err != nil {
				return nil, err
			}
			forgotten, err := w.service.Mirrors.Forget(ctx, v.caller, in.Name, p)
			return &answer[api.Forgotten]{api.Forgotten{PURL: p.String(), Copies: forgotten.Copies, Documents: forgotten.Documents}}, err
		})
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
	operate(w, "next-times", forSignedIn, http.MethodGet, "/api/v1/schedule", "The next times of a schedule",
		func(ctx context.Context, v visit, in *struct {
			Schedule string `query:"schedule" required:"true" maxLength:"200" example:"30 5 * * 1-5"`
			Zone     string `query:"zone" maxLength:"100" default:"UTC"`
		}) (*answer[api.NextTimes], error) {
			next, err := schedule.NextTimes(in.Schedule, in.Zone, w.service.Now(), shownTimes)
			return &answer[api.NextTimes]{api.NextTimes{Next: next}}, err
		})
}

func showState(state mirrors.State, now time.Time) api.MirrorState {
	shown := api.MirrorState{Name: state.Repository.Name, Contacts: showMirror(state.Repository, state.Contacts, now).Contacts,
		Hours: []api.Hour{}, Stale: []api.StaleDoc{}, StaleTotal: state.StaleTotal}
	var total record.MirrorHour
	for _, h := range state.Hours {
		shown.Hours = append(shown.Hours, showHour(h))
		total.Hits, total.Misses, total.Stale, total.Failures = total.Hits+h.Hits, total.Misses+h.Misses, total.Stale+h.Stale, total.Failures+h.Failures
		total.Requests, total.FirstByteUS = total.Requests+h.Requests, total.FirstByteUS+h.FirstByteUS
		total.BytesServed, total.BytesFetched = total.BytesServed+h.BytesServed, total.BytesFetched+h.BytesFetched
		if total.Hour.IsZero() {
			total.Hour = h.Hour
		}
	}
	shown.Total = showHour(total)
	for _, d := range state.Stale {
		shown.Stale = append(shown.Stale, api.StaleDoc{Path: d.Path, CheckedAt: d.CheckedAt.UTC(), FailedAt: d.FailedAt.UTC(), Failure: d.Failure})
	}
	return shown
}

func showRun(r record.PrefetchRun) (api.PrefetchRun, error) {
	lines, err := r.Report()
	shown := api.PrefetchRun{ID: r.ID, BegunBy: r.BegunBy, BegunAt: r.BegunAt.UTC(), EndedAt: utc(r.EndedAt), State: "running", Failure: r.Failure,
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
