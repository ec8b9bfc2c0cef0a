package web

import (
	"context"
	"encoding/hex"
	"net/http"

	"crelvo/internal/api"
	"crelvo/internal/core/fault"
	"crelvo/internal/record"
	"crelvo/internal/service/builds"
)

// BuildByName names a build. It is exported for the sake of the reflection that
// reads inputs.
type BuildByName struct {
	Build  string `path:"build" maxLength:"100"`
	Number string `path:"number" maxLength:"40"`
}

func (b BuildByName) title() string { return b.Build + "#" + b.Number }

func (w *Server) addBuilds() {
	const path = "/api/v1/builds"
	operate(w, "list-builds", forAnyone, http.MethodGet, path,
		"Builds of which the caller may see something, the newest first",
		func(ctx context.Context, v visit, in *struct {
			Name   string `query:"name" maxLength:"100"`
			Words  string `query:"q" maxLength:"200" doc:"a part of the name, number, revision or branch"`
			Before int64  `query:"before"`
			Limit  int    `query:"limit" minimum:"1" maximum:"500" default:"50"`
		}) (*answer[api.BuildList], error) {
			found, err := w.service.Builds.Builds(ctx, v.caller,
				record.BuildFilter{Name: in.Name, Words: in.Words, Before: in.Before, Limit: in.Limit + 1})
			page := api.BuildList{Builds: []api.Build{}}
			if len(found) > in.Limit {
				found = found[:in.Limit]
				page.Before = found[in.Limit-1].ID
			}
			for _, b := range found {
				page.Builds = append(page.Builds, showBuild(b))
			}
			return &answer[api.BuildList]{page}, err
		})
	operate(w, "record-build", forSignedIn, http.MethodPost, path, "Record a build, or add to what was recorded of it",
		func(ctx context.Context, v visit, in *answer[api.BuildReport]) (*answer[api.Build], error) {
			r := builds.Report{Name: in.Body.Name, Number: in.Body.Number, Revision: in.Body.Revision, Branch: in.Body.Branch,
				Link:  in.Body.Link,
				Agent: in.Body.Agent, Notes: in.Body.Notes, JUnit: in.Body.JUnit, Made: in.Body.Made, Digests: in.Body.Digests,
				Used: in.Body.Used, In: in.Body.In}
			if in.Body.StartedAt != nil {
				r.StartedAt = *in.Body.StartedAt
			}
			b, err := w.service.Builds.RecordBuild(ctx, v.caller, r)
			return &answer[api.Build]{showBuild(b)}, err
		})
	operate(w, "begin-build", forSignedIn, http.MethodPost, path+"/{build}/{number}",
		"Note that a build begins: what is published with the token from now on belongs to it",
		func(ctx context.Context, v visit, in *BuildByName) (*answer[api.BegunBuild], error) {
			b, beside, err := w.service.Builds.BeginBuild(ctx, v.caller, in.title())
			return &answer[api.BegunBuild]{api.BegunBuild{Build: showBuild(b), Beside: beside}}, err
		})
	operate(w, "show-build", forAnyone, http.MethodGet, path+"/{build}/{number}", "A build with what it made and used",
		func(ctx context.Context, v visit, in *BuildByName) (*answer[api.BuildPage], error) {
			b, err := w.service.Builds.Build(ctx, v.caller, in.title())
			if err != nil {
				return nil, err
			}
			promotions, _, err := w.service.Promotion.Promotions(ctx, v.caller, record.PromotionFilter{BuildID: b.ID}, "")
			page := api.BuildPage{Build: showBuild(b.Build), Notes: b.Notes, MadeIt: builtVersions(b.Made),
				Used: builtVersions(b.Used), Documents: []api.BuildDocument{}, Promotions: []api.Promotion{}}
			for _, d := range b.Documents {
				page.Documents = append(page.Documents, showDocument(d))
			}
			for _, p := range promotions {
				page.Promotions = append(page.Promotions, showPromotion(p))
			}
			return &answer[api.BuildPage]{page}, err
		})
	operate(w, "remove-build", forAdmin, http.MethodDelete, path+"/{build}/{number}",
		"Drop the record of a build that made nothing",
		func(ctx context.Context, v visit, in *BuildByName) (*none, error) {
			return nil, w.service.Builds.RemoveBuild(ctx, v.caller, in.title())
		})
	operate(w, "compare-builds", forAnyone, http.MethodGet, path+"/{build}/{number}/difference",
		"What is not the same in an earlier build",
		func(ctx context.Context, v visit, in *struct {
			BuildByName
			To string `query:"to" required:"true" maxLength:"150" doc:"the earlier one, as NAME#NUMBER"`
		}) (*answer[api.BuildComparison], error) {
			made, used, err := w.service.Builds.CompareBuilds(ctx, v.caller, in.To, in.title())
			return &answer[api.BuildComparison]{api.BuildComparison{Made: showDifferences(made), Used: showDifferences(used)}},
				err
		})
}

func showBuild(b record.Build) api.Build {
	return api.Build{Name: b.Name, Number: b.Number, Revision: b.Revision, Branch: b.Branch, Link: b.Link, Agent: b.Agent,
		By:        b.Owner,
		StartedAt: b.StartedAt.UTC(), EndedAt: utc(b.EndedAt), Made: b.Made, Promoted: b.Promoted, Tests: b.Tests}
}

func builtVersion(v record.MadeVersion, repository string) api.BuiltVersion {
	return api.BuiltVersion{PURL: builds.Output{MadeVersion: v}.PURL().String(), Upload: v.Upload,
		Repository: repository, At: v.PublishedAt.UTC(),
		GoneAt: utc(v.GoneAt), By: v.PublishedBy, Bytes: v.Bytes, Files: v.Files, Digest: hex.EncodeToString(v.Digest),
		Promotion: v.Promotion, Licences: []string{}}
}

func builtVersions(all []builds.Output) []api.BuiltVersion {
	shown := make([]api.BuiltVersion, len(all))
	for i, v := range all {
		shown[i] = builtVersion(v.MadeVersion, v.Repository.Name)
		shown[i].Licences = append(shown[i].Licences, v.Licences...)
	}
	return shown
}

func showDocument(d record.BuildDocument) api.BuildDocument {
	return api.BuildDocument{ID: d.ID, Name: d.Name, Kind: d.Kind, Type: d.Type, Builder: d.Builder, Signed: d.Signed,
		SignedBy: append([]string{}, d.SignedBy...), By: d.ByName, At: d.At.UTC(), Size: d.Size}
}

func showDifferences(all []builds.Difference) []api.Difference {
	shown := make([]api.Difference, len(all))
	for i, d := range all {
		shown[i] = api.Difference{PURL: d.PURL.String(), Before: d.Before, After: d.After, OtherBytes: d.OtherBytes}
	}
	return shown
}

func (w *Server) addBuildNames() {
	const path = "/api/v1/builds"
	operate(w, "list-build-names", forSignedIn, http.MethodGet, path+"/names", "To whom builds belong, by their names",
		func(ctx context.Context, v visit, _ *none) (*answer[[]api.BuildName], error) {
			names, err := w.service.Builds.BuildNames(ctx, v.caller)
			shown := make([]api.BuildName, len(names))
			for i, n := range names {
				shown[i] = api.BuildName{Name: n.Name, Owner: n.Owner, GivenBy: n.GivenBy, At: n.At.UTC(), Builds: n.Builds}
			}
			return &answer[[]api.BuildName]{shown}, err
		})
	operate(w, "give-build-name", forAdmin, http.MethodPut, path+"/names/{build}", "Say to whom builds of a name belong",
		func(ctx context.Context, v visit, in *struct {
			Build string `path:"build" maxLength:"100"`
			Body  api.BuildNameOwner
		}) (*none, error) {
			return nil, w.service.Builds.GiveBuildName(ctx, v.caller, in.Build, in.Body.Owner)
		})
}

func (w *Server) addDocuments() {
	const path = "/api/v1/builds"
	operate(w, "attach-document", forSignedIn, http.MethodPost, path+"/{build}/{number}/documents",
		"Attach an in-toto statement (DSSE or bare), CycloneDX or SPDX",
		func(ctx context.Context, v visit, in *struct {
			BuildByName
			Name    string `query:"name" required:"true" minLength:"1" maxLength:"200"`
			RawBody []byte `contentType:"application/octet-stream"`
		}) (*answer[api.BuildDocument], error) {
			if len(in.RawBody) > builds.MaxDocument {
				return nil, fault.New(fault.TooLarge, "document-too-large", "a document has at most %d bytes", builds.MaxDocument)
			}
			d, err := w.service.Builds.Attach(ctx, v.caller, in.title(), in.Name, in.RawBody)
			return &answer[api.BuildDocument]{showDocument(d)}, err
		})
	operate(w, "show-document", forAnyone, http.MethodGet, path+"/{build}/{number}/documents/{document}",
		"The content of a document",
		func(ctx context.Context, v visit, in *struct {
			BuildByName
			Document int64 `path:"document"`
		}) (*struct {
			ContentType string `header:"Content-Type"`
			Disposition string `header:"Content-Disposition"`
			Body        []byte
		}, error) {
			content, err := w.service.Builds.Document(ctx, v.caller, in.title(), in.Document)
			out := &struct {
				ContentType string `header:"Content-Type"`
				Disposition string `header:"Content-Disposition"`
				Body        []byte
			}{"application/json", "attachment", content}
			return out, err
		})
}
