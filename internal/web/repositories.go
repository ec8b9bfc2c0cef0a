package web

import (
	"context"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"

	"crelvo/internal/api"
	"crelvo/internal/core/access"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/purl"
	"crelvo/internal/core/retention"
	"crelvo/internal/core/safety"
	"crelvo/internal/record"
	"crelvo/internal/service/act"
	"crelvo/internal/service/repositories"
	"crelvo/internal/service/schedule"
)

// ByName names a repository. It is exported for the sake of the reflection that
// reads inputs.
type ByName struct {
	Name string `path:"name" maxLength:"110" doc:"the repository; for reading also as of a moment: platform@2026-11-01T08:00Z"`
}

func (w *Server) addRepositories() {
	const path = "/api/v1/repositories"
	operate(w, "list-repositories", forAnyone, http.MethodGet, path, "The repositories that the caller may read",
		func(ctx context.Context, v visit, _ *none) (*answer[[]api.Repository], error) {
			readable := w.service.Directory.Readable(v.caller)
			totals, err := w.service.Repositories.Totals(ctx, readable...)
			if err != nil {
				return nil, err
			}
			all := []api.Repository{}
			contacts, err := w.service.Mirrors.MirrorContacts(ctx)
			if err != nil {
				return nil, err
			}
			for _, r := range readable {
				all = append(all, w.showRepository(v, r, totals, contacts[r.ID]))
			}
			return &answer[[]api.Repository]{all}, nil
		})
	operate(w, "show-repository", toRead, http.MethodGet, path+"/{name}", "One repository",
		func(ctx context.Context, v visit, in *ByName) (*answer[api.Repository], error) {
			r, err := w.service.Directory.Repository(v.caller, in.Name, access.Read)
			return w.oneRepository(ctx, v, r, err)
		})
	operate(w, "add-repository", forSomeAdmin, http.MethodPost, path, "Make a repository",
		func(ctx context.Context, v visit, in *answer[api.NewRepository]) (*answer[api.Repository], error) {
			if err := notOwnHost(v, in.Body.Hosts); err != nil {
				return nil, err
			}
			n, err := newRepository(in.Body)
			if err != nil {
				return nil, err
			}
			r, err := w.service.Repositories.AddRepository(ctx, v.caller, n)
			return w.oneRepository(ctx, v, r, err)
		})
	operate(w, "edit-repository", toManage, http.MethodPatch, path+"/{name}", "Change the settings of a repository",
		func(ctx context.Context, v visit, in *struct {
			ByName
			Body api.RepositoryChange
		}) (*answer[api.Repository], error) {
			if in.Body.Hosts != nil {
				if err := notOwnHost(v, *in.Body.Hosts); err != nil {
					return nil, err
				}
			}
			change := repositories.SettingsChange{Holds: (*catalog.Holds)(in.Body.Holds),
				Description: in.Body.Description, AnonymousRead: in.Body.AnonymousRead, OnlyBuilds: in.Body.OnlyBuilds,
				OnlyRobots: in.Body.OnlyRobots,
				Closed:     in.Body.Closed, LargestFile: in.Body.LargestFile, Hosts: in.Body.Hosts,
				ReleaseTags: in.Body.ReleaseTags, Store: in.Body.Store, FromStore: in.Body.FromStore}
			if in.Body.Refuse != nil {
				refuse := refusing(*in.Body.Refuse)
				change.Refuse = &refuse
			}
			var err error
			if change.Admission, err = admission(in.Body.Admission); err != nil {
				return nil, err
			}
			if m := in.Body.Mirror; m != nil {
				change.Mirror = func(settings *catalog.MirrorSettings) { applyMirror(m, settings) }
			}
			if c := in.Body.Chain; c != nil {
				change.Members, change.ReleasesTo, change.SnapshotsTo, change.OpenMembers = membersOf(c.Members), c.ReleasesTo,
					c.SnapshotsTo, c.OpenMembers
			}
			r, err := w.service.Repositories.EditRepository(ctx, v.caller, in.Name, change)
			return w.oneRepository(ctx, v, r, err)
		})
}

// notOwnHost refuses the host of the server itself as one of a repository: no other one would
// be found there any more.
func notOwnHost(v visit, hosts []string) error {
	at, err := url.Parse(v.address)
	if err == nil && slices.ContainsFunc(hosts, func(host string) bool {
		return strings.EqualFold(strings.TrimSpace(host), at.Hostname())
	}) {
		return fault.New(fault.Invalid, "bad-host", "%s is the host of the server itself", at.Hostname()).
			WithHint("Give the repository a name of its own, which leads here too.")
	}
	return nil
}

func (w *Server) oneRepository(
	ctx context.Context, v visit, r catalog.Repository, err error,
) (*answer[api.Repository], error) {
	if err != nil {
		return nil, err
	}
	totals, err := w.service.Repositories.Totals(ctx, r)
	if err != nil {
		return nil, err
	}
	if r.AsOf != 0 {
		if totals[r.ID], err = w.service.Repositories.TotalAsOf(ctx, r); err != nil {
			return nil, err
		}
	}
	contacts, err := w.service.Mirrors.MirrorContacts(ctx)
	if err != nil {
		return nil, err
	}
	return &answer[api.Repository]{w.showRepository(v, r, totals, contacts[r.ID])}, nil
}

func (w *Server) showRepository(
	v visit, r catalog.Repository, totals map[int64]record.Total, contacts []record.UpstreamContact,
) api.Repository {
	total := totals[r.ID]
	shown := api.Repository{Name: r.Name, Kind: string(r.Kind), Holds: string(r.Holds), Description: r.Description,
		AnonymousRead: r.AnonymousRead, OnlyBuilds: r.OnlyBuilds, OnlyRobots: r.OnlyRobots, Closed: r.Closed,
		LargestFile: r.LargestFile, Hosts: r.Hosts, ReleaseTags: r.ReleaseTags,
		Store: w.service.Store.NameFor(v.caller, r), FromStore: r.FromStore, Refuse: showRefusing(r.Safety.Refuse),
		Admission: showAdmission(r.Safety),
		Address:   v.address + "/at/" + r.At() + "/", AsOf: asOf(r),
		Ecosystems: []string{}, Packages: total.Packages, Versions: total.Versions, Bytes: total.Bytes,
		CreatedAt: r.CreatedAt.UTC(), May: []string{}}
	shown.Ecosystems = append(shown.Ecosystems, total.Ecosystems...)
	switch {
	case r.Fetches():
		shown.Ecosystem, shown.Mirror, shown.Ecosystems = r.Ecosystem, showMirror(r, contacts, w.service.Now()),
			[]string{r.Ecosystem}
	case r.Gathers():
		shown.Chain = w.showChain(v.caller, r)
	}
	if total.LastChange != nil {
		at := total.LastChange.UTC()
		shown.LastChange = &at
	}
	for _, action := range access.Actions {
		if (r.AsOf == 0 || action == access.Read) && w.service.Directory.Allow(v.caller, action, access.Of(r)) == nil {
			shown.May = append(shown.May, string(action))
		}
	}
	return shown
}

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

func (w *Server) addClaims() {
	operate(w, "list-claims", forSignedIn, http.MethodGet, "/api/v1/claims",
		"The names that are claimed by pattern, and the lifts",
		func(ctx context.Context, v visit, _ *none) (*answer[[]api.Claim], error) {
			claims, err := w.service.Repositories.Claims(ctx, v.caller)
			shown := []api.Claim{}
			for _, c := range claims {
				shown = append(shown, showClaim(c))
			}
			return &answer[[]api.Claim]{shown}, err
		})
	operate(w, "add-claim", forAdmin, http.MethodPost, "/api/v1/claims",
		"Claim names, so that no mirror behind a chain answers for them",
		func(ctx context.Context, v visit, in *answer[api.NewClaim]) (*answer[api.Claim], error) {
			c, err := w.service.Repositories.AddClaim(ctx, v.caller, in.Body.Pattern, in.Body.Reason)
			return &answer[api.Claim]{showClaim(c)}, err
		})
	operate(w, "lift-claim", forAdmin, http.MethodPost, "/api/v1/claims/lift",
		"End a claim, or let mirrors answer for names that were published here",
		func(ctx context.Context, v visit, in *answer[api.NewClaim]) (*answer[api.Claim], error) {
			c, err := w.service.Repositories.LiftClaim(ctx, v.caller, in.Body.Pattern, in.Body.Reason)
			return &answer[api.Claim]{showClaim(c)}, err
		})
	operate(w, "list-claimed-names", toRead, http.MethodGet, "/api/v1/repositories/{name}/claimed-names",
		"The names that are claimed in a chain since they were published",
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

func newRepository(n api.NewRepository) (made repositories.NewRepository, err error) {
	made = repositories.NewRepository{Repository: catalog.Repository{Name: n.Name, Kind: catalog.Kind(n.Kind),
		Holds:     catalog.Holds(n.Holds),
		Ecosystem: n.Ecosystem, Description: n.Description, AnonymousRead: n.AnonymousRead, OnlyBuilds: n.OnlyBuilds,
		OnlyRobots: n.OnlyRobots, Closed: n.Closed, LargestFile: n.LargestFile,
		Hosts: n.Hosts, ReleaseTags: n.ReleaseTags, FromStore: n.FromStore,
		Safety: safety.Rules{Refuse: refusing(n.Refuse)}}, Store: n.Store}
	admit, err := admission(n.Admission)
	if err != nil {
		return made, err
	}
	if admit != nil {
		admit(&made.Safety)
	}
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
	return made, nil
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
		act.Set(&m.Prefetch.Platforms, p.Platforms)
		act.Set(&m.Prefetch.Follow, p.Follow)
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
			Zone: m.Prefetch.Zone, Newest: m.Prefetch.Newest, Platforms: m.Prefetch.Platforms, Next: []time.Time{},
			Follow: m.Prefetch.Follow},
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
		shown.Contacts = append(shown.Contacts, showContact(of, u.Private, now))
	}
	return shown
}

func showContact(c record.UpstreamContact, private bool, now time.Time) api.Contact {
	shown := api.Contact{URL: c.URL, Private: private, State: "unknown", ContactAt: utc(c.ContactAt),
		FailedAt: utc(c.FailedAt), Failure: c.Failure,
		FailingSince: utc(c.FailingSince), RetryAt: utc(c.RetryAt), FirstByteSeconds: float64(c.LatencyUS) / 1e6}
	switch {
	case c.FailingSince != nil:
		shown.State = "failing"
	case c.ContactAt != nil:
		shown.State = "ok"
	}
	if c.AllowedAt != nil {
		shown.Allowed = &api.Allowance{Left: c.AllowedLeft, Most: c.AllowedMost, Seconds: c.AllowedWindow,
			Again: utc(c.AllowedAgain), At: c.AllowedAt.UTC(), Scarce: c.Scarce(now)}
	}
	return shown
}

func (w *Server) addRemovedRepositories() {
	const path = "/api/v1/repositories"
	operate(w, "remove-repository", toManage, http.MethodDelete, path+"/{name}", "Take a repository out of use",
		func(ctx context.Context, v visit, in *struct {
			ByName
			WithContents bool `query:"withContents" doc:"also if it holds anything"`
		}) (*none, error) {
			return nil, w.service.Repositories.RemoveRepository(ctx, v.caller, in.Name, in.WithContents)
		})
	operate(w, "list-removed-repositories", forSignedIn, http.MethodGet, "/api/v1/removals/repositories",
		"Repositories that were removed and can be brought back",
		func(_ context.Context, v visit, _ *none) (*answer[[]api.RemovedRepository], error) {
			all := []api.RemovedRepository{}
			for _, r := range w.service.Directory.RemovedRepositories(v.caller) {
				all = append(all, api.RemovedRepository{Name: r.Name, Kind: string(r.Kind), By: r.By, At: r.At.UTC(),
					Until: r.At.Add(retention.DefaultGrace).UTC()})
			}
			return &answer[[]api.RemovedRepository]{all}, nil
		})
	operate(w, "bring-repository-back", forAdmin, http.MethodPost, path+"/{name}/undo",
		"Put a repository that was removed into use again, within 14 days",
		func(ctx context.Context, v visit, in *ByName) (*answer[api.Repository], error) {
			r, err := w.service.Repositories.BringBackRepository(ctx, v.caller, in.Name)
			return w.oneRepository(ctx, v, r, err)
		})
}

func (w *Server) addFolders() {
	const path = "/api/v1/repositories"
	operate(w, "show-folder", toRead, http.MethodGet, path+"/{name}/folder", "A level of a repository's tree",
		func(ctx context.Context, v visit, in *struct {
			ByName
			Ecosystem string `query:"ecosystem" default:"maven"`
			Path      string `query:"path" maxLength:"1024"`
			After     string `query:"after" maxLength:"255" doc:"go on after the entry of this name"`
			Limit     int    `query:"limit" minimum:"1" maximum:"5000" default:"500"`
		}) (*answer[api.Folder], error) {
			r, err := w.service.Directory.Repository(v.caller, in.Name, access.Read)
			if err != nil {
				return nil, err
			}
			e := w.service.Ecosystem(in.Ecosystem)
			if e == nil {
				return nil, noEcosystem(in.Ecosystem)
			}
			folder, err := w.service.Resolving.Folder(ctx, r, e, in.Path)
			if err != nil {
				return nil, err
			}
			entries, next := folder.Page(in.After, in.Limit)
			shown := api.Folder{Total: len(folder.Entries), Next: next, Repository: r.Name, Ecosystem: e.Name(),
				Path: folder.Path, Entries: []api.Entry{},
				Address: v.address + "/at/" + r.At() + "/" + e.Name() + "/" + folder.Path}
			for _, entry := range entries {
				line := api.Entry{Name: entry.Name, Folder: entry.Folder, Size: entry.Size, Document: entry.Document}
				if entry.PURL.Name != "" {
					line.PURL = entry.PURL.String()
				}
				if !entry.ChangedAt.IsZero() {
					at := entry.ChangedAt.UTC()
					line.ChangedAt = &at
				}
				if entry.Digests != nil {
					line.Checksums = checksums(*entry.Digests)
				}
				shown.Entries = append(shown.Entries, line)
			}
			return &answer[api.Folder]{shown}, nil
		})
}

// refusing reads how bad an advisory must be; what is no such word is none.
func refusing(word string) safety.Severity {
	if s, err := safety.ParseSeverity(word); err == nil && s > safety.None {
		return s
	}
	return safety.Unknown
}

func showRefusing(s safety.Severity) string {
	if s == safety.Unknown {
		return ""
	}
	return s.String()
}
