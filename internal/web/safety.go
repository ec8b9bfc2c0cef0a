package web

import (
	"context"
	"net/http"
	"time"

	"crelvo/internal/api"
	"crelvo/internal/core/fault"
	core "crelvo/internal/core/safety"
	"crelvo/internal/record"
	"crelvo/internal/service/safety"
)

// largestImport is how many bytes a file with advisories may have that somebody imports.
const largestImport = 16 << 20

func (w *Server) addSafety() {
	w.addAdvisories()
	w.addFeeds()
	const waivers = "/api/v1/waivers"
	operate(w, "list-waivers", forSignedIn, http.MethodGet, waivers, "Waivers, which accept advisories; the newest first",
		func(ctx context.Context, _ visit, in *struct {
			Ended bool `query:"ended" doc:"those that have ended too"`
		}) (*answer[[]api.Waiver], error) {
			all, err := w.service.Safety.Waivers(ctx, in.Ended)
			return &answer[[]api.Waiver]{showWaivers(all)}, err
		})
	operate(w, "make-waiver", forAdmin, http.MethodPost, waivers, "Accept an advisory for what a pattern fits",
		func(ctx context.Context, v visit, in *answer[api.NewWaiver]) (*answer[api.Waiver], error) {
			n := safety.NewWaiver{Advisory: in.Body.Advisory, Pattern: in.Body.Pattern, Reason: in.Body.Reason,
				Justification: in.Body.Justification}
			if in.Body.Until != nil {
				n.Until = *in.Body.Until
			}
			made, err := w.service.Safety.Waive(ctx, v.caller, n)
			return &answer[api.Waiver]{showWaiver(made)}, err
		})
	operate(w, "import-vex", forAdmin, http.MethodPost, waivers+"/vex",
		"Make waivers of what a document of OpenVEX or CycloneDX says is not affected",
		func(ctx context.Context, v visit, in *struct {
			RawBody []byte `contentType:"application/octet-stream"`
		}) (*answer[api.Stated], error) {
			if len(in.RawBody) > largestImport {
				return nil, fault.New(fault.Invalid, "too-large", "a document has %s at most", api.Bytes(largestImport)).
					WithHint("Import its statements in parts.")
			}
			done, err := w.service.Safety.ImportVEX(ctx, v.caller, in.RawBody)
			shown := api.Stated{Made: showWaivers(done.Made), Already: done.Already, Passed: []api.PassedOver{}}
			for _, p := range done.Passed {
				shown.Passed = append(shown.Passed, api.PassedOver(p))
			}
			return &answer[api.Stated]{shown}, err
		})
	operate(w, "export-vex", forSignedIn, http.MethodGet, waivers+"/vex",
		"The waivers that stand as statements; those for patterns are left out",
		func(ctx context.Context, _ visit, in *struct {
			Form string `query:"form" enum:"openvex,cyclonedx" default:"openvex"`
		}) (*statements, error) {
			raw, err := w.service.Safety.ExportVEX(ctx, in.Form == "cyclonedx")
			return &statements{"application/json", raw}, err
		})
	operate(w, "end-waiver", forAdmin, http.MethodDelete, waivers+"/{id}", "End a waiver",
		func(ctx context.Context, v visit, in *struct {
			ID int64 `path:"id" minimum:"1"`
		}) (*none, error) {
			return nil, w.service.Safety.EndWaiver(ctx, v.caller, in.ID)
		})
}

// statements are waivers as a document.
type statements struct {
	ContentType string `header:"Content-Type"`
	Body        []byte
}

func (w *Server) addAdvisories() {
	const path = "/api/v1/advisories"
	operate(w, "list-advisories", forSignedIn, http.MethodGet, path, "Advisories, which changed last first",
		func(ctx context.Context, _ visit, in *struct {
			Words     string    `query:"words" maxLength:"200" doc:"in the id, an alias, the summary or the name of a package"`
			Severity  string    `query:"severity" enum:"low,medium,high,critical" doc:"at least as bad"`
			Withdrawn bool      `query:"withdrawn" doc:"those that were withdrawn too"`
			Before    time.Time `query:"before" doc:"the moment of change of the last one of the page before"`
			Skip      string    `query:"skip" maxLength:"200" doc:"its id"`
			Limit     int       `query:"limit" minimum:"1" maximum:"1000" default:"100"`
		}) (*answer[api.AdvisoryList], error) {
			found, err := w.service.Safety.Advisories(ctx, record.AdvisoryQuestion{Words: in.Words, Least: refusing(in.Severity),
				Standing: !in.Withdrawn, Before: in.Before, Skip: in.Skip, Limit: in.Limit + 1})
			if err != nil {
				return nil, err
			}
			list := api.AdvisoryList{Advisories: []api.Advisory{}, More: len(found) > in.Limit}
			for _, a := range found[:min(len(found), in.Limit)] {
				list.Advisories = append(list.Advisories, showAdvisory(a))
			}
			list.Known, err = w.advisoryCounts(ctx)
			return &answer[api.AdvisoryList]{list}, err
		})
	operate(w, "list-affected", forSignedIn, http.MethodGet, path+"/affected",
		"Versions that are kept and that advisories are about, the worst first",
		func(ctx context.Context, v visit, in *struct {
			Limit int `query:"limit" minimum:"1" maximum:"10000" default:"500" doc:"how many at most"`
		}) (*answer[api.AffectedList], error) {
			all, asOf, err := w.service.Safety.Affected(ctx, v.caller)
			if err != nil {
				return nil, err
			}
			list := api.AffectedList{Affected: showAffected(all[:min(len(all), in.Limit)]), Total: len(all), AsOf: asOf.UTC()}
			list.Known, err = w.advisoryCounts(ctx)
			return &answer[api.AffectedList]{list}, err
		})
	operate(w, "show-advisory", forSignedIn, http.MethodGet, path+"/{id}", "One advisory, and what it means here",
		func(ctx context.Context, v visit, in *struct {
			ID string `path:"id" maxLength:"200" doc:"its id, or an alias"`
		}) (*answer[api.AdvisoryPage], error) {
			d, err := w.service.Safety.Advisory(ctx, v.caller, in.ID)
			return &answer[api.AdvisoryPage]{showAdvisoryPage(d)}, err
		})
	operate(w, "import-advisories", forAdmin, http.MethodPost, path,
		"Take advisories from a file: a record of the OSV format, a list of them, or a zip archive",
		func(ctx context.Context, v visit, in *struct {
			Name    string `query:"name" maxLength:"200" doc:"what the file is called"`
			RawBody []byte `contentType:"application/octet-stream"`
		}) (*answer[api.FeedReport], error) {
			if len(in.RawBody) > largestImport {
				return nil, fault.New(fault.Invalid, "too-large", "a file with advisories has %s at most",
					api.Bytes(largestImport)).
					WithHint("Put it on the server, and add it as a feed.")
			}
			name := in.Name
			if name == "" {
				name = "a file"
			}
			report, err := w.service.Safety.Import(ctx, v.caller, name, in.RawBody)
			return &answer[api.FeedReport]{api.FeedReport(report)}, err
		})
}

func (w *Server) addFeeds() {
	const path = "/api/v1/feeds"
	operate(w, "list-feeds", forAdmin, http.MethodGet, path, "Where advisories come from",
		func(ctx context.Context, v visit, _ *none) (*answer[[]api.Feed], error) {
			all, err := w.service.Safety.Feeds(ctx, v.caller)
			shown := make([]api.Feed, len(all))
			for i, f := range all {
				shown[i] = showFeed(f)
			}
			return &answer[[]api.Feed]{shown}, err
		})
	operate(w, "add-feed", forAdmin, http.MethodPost, path, "Add a source of advisories, and begin to read it",
		func(ctx context.Context, v visit, in *answer[api.NewFeed]) (*answer[api.Feed], error) {
			f, err := w.service.Safety.AddFeed(ctx, v.caller, safety.NewFeed{Name: in.Body.Name, Location: in.Body.Location,
				Every: time.Duration(in.Body.EverySeconds) * time.Second})
			return &answer[api.Feed]{showFeed(f)}, err
		})
	operate(w, "run-feed", forAdmin, http.MethodPost, path+"/{name}/run", "Read a feed now, in the background",
		func(ctx context.Context, v visit, in *ByName) (*answer[api.Feed], error) {
			f, err := w.service.Safety.RunFeed(ctx, v.caller, in.Name)
			return &answer[api.Feed]{showFeed(f)}, err
		})
	operate(w, "remove-feed", forAdmin, http.MethodDelete, path+"/{name}", "Take a feed away; what it brought stays",
		func(ctx context.Context, v visit, in *ByName) (*none, error) {
			return nil, w.service.Safety.RemoveFeed(ctx, v.caller, in.Name)
		})
}

func (w *Server) advisoryCounts(ctx context.Context) (api.AdvisoryCounts, error) {
	n, err := w.service.Safety.Counts(ctx)
	shown := api.AdvisoryCounts{Advisories: n.Advisories, Malicious: n.Malicious, Packages: n.Packages}
	if n.Newest.Valid {
		newest := n.Newest.Time.UTC()
		shown.Newest = &newest
	}
	return shown, err
}

func showAdvisory(a record.Advisory) api.Advisory {
	worst := a.Rating
	shown := api.Advisory{ID: a.ID, Aliases: a.Aliases, Severity: a.Severity.String(), Score: worst.Score,
		Vector: worst.Vector, Malicious: a.Malicious(), Summary: a.Summary, Modified: a.Modified.UTC(), By: a.By,
		ArrivedAt: a.ArrivedAt.UTC()}
	for at, to := range map[*time.Time]**time.Time{&a.Published: &shown.Published, &a.Withdrawn: &shown.Withdrawn} {
		if !at.IsZero() {
			moment := at.UTC()
			*to = &moment
		}
	}
	return shown
}

// mostListedVersions is how many versions are named that an upstream lists of a package.
const mostListedVersions = 100

func showAdvisoryPage(d safety.Detail) api.AdvisoryPage {
	d.Rating = d.Worst()
	shown := api.AdvisoryPage{Advisory: showAdvisory(d.Advisory), Details: d.Details, References: []api.Reference{},
		About: []api.AffectedPackage{}, Kept: showAffected(d.Kept), Users: showUsers(d.Users), Builds: []string{},
		Waivers: showWaivers(d.Waivers), Listed: []api.ListedAffected{}}
	for _, l := range d.Listed {
		shown.Listed = append(shown.Listed, api.ListedAffected{Repository: l.Repository, PURL: l.Package.Typed(),
			Versions: l.Versions[:min(len(l.Versions), mostListedVersions)], Total: len(l.Versions), KeptOut: l.KeptOut})
	}
	for _, r := range d.References {
		shown.References = append(shown.References, api.Reference(r))
	}
	for _, f := range d.Affected {
		shown.About = append(shown.About, api.AffectedPackage{PURL: f.Package.Typed(), Versions: f.Text(),
			FixedIn: append([]string{}, f.FixedIn()...)})
	}
	for _, b := range d.Builds {
		shown.Builds = append(shown.Builds, b.Name+"#"+b.Number)
	}
	return shown
}

func showAffected(all []safety.Affected) []api.Affected {
	shown := make([]api.Affected, len(all))
	for i, a := range all {
		f := showFinding(a.Finding)
		shown[i] = api.Affected{PURL: a.PURL.Typed(), Repository: a.Repository, Advisory: f.Advisory, Severity: f.Severity,
			Score: f.Score, Malicious: f.Malicious, Summary: f.Summary, KeptOut: a.Refused, FixedIn: f.FixedIn,
			Better: a.Better, Downloads: a.Downloads, UsedAt: utc(a.UsedAt)}
		if a.Inside.Name != "" {
			shown[i].Inside, shown[i].Label = a.Inside.Typed(), a.Label
		}
		if a.Waiver != nil {
			shown[i].WaivedBy = a.Waiver.ID
		}
	}
	return shown
}

func showFinding(f core.Finding) api.Finding {
	return api.Finding{Advisory: f.ID, Severity: f.Rating.Severity.String(), Score: f.Rating.Score,
		Malicious: core.Malicious(f.ID), Summary: f.Summary, FixedIn: append([]string{}, f.FixedIn...)}
}

func showFeed(f record.Feed) api.Feed {
	return api.Feed{Name: f.Name, Location: f.Location, EverySeconds: int(f.Every.Seconds()), By: f.By,
		AddedAt: f.AddedAt.UTC(), Running: f.Running, BegunAt: utc(f.BegunAt), EndedAt: utc(f.EndedAt), Failure: f.Failure,
		Report: api.FeedReport(f.Report)}
}

func showWaivers(all []record.Waiver) []api.Waiver {
	shown := make([]api.Waiver, len(all))
	for i, one := range all {
		shown[i] = showWaiver(one)
	}
	return shown
}

func showWaiver(n record.Waiver) api.Waiver {
	return api.Waiver{ID: n.ID, Advisory: n.Advisory, Pattern: n.Pattern, Reason: n.Reason, By: n.By,
		MadeAt: n.MadeAt.UTC(),
		Until:  utc(n.Until), EndedAt: utc(n.EndedAt), EndedBy: n.EndedBy, Justification: n.Justification}
}
