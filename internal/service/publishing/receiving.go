package publishing

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"crelvo/internal/core/access"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/purl"
	"crelvo/internal/record"
	"crelvo/internal/service/act"
)

// Receiving is a version that is being received, and cannot be seen yet.
type Receiving struct {
	PURL       purl.PURL
	Upload     string // of a snapshot
	Repository string
	By         string
	Begun      time.Time
	Last       time.Time // when its last file came
	Files      int
	Bytes      int64
	// Lacks is what it waits for: "" if it is listed as it is when nothing more comes
	// until Until, else it is given up then.
	Lacks string
	Until time.Time
}

// maxReceiving is how many versions are told of that are being received.
const maxReceiving = 200

// Receiving lists what is being received in what the caller may read, or only of
// one package.
func (s *Publishing) Receiving(
	ctx context.Context, caller access.Caller, of purl.PURL, repository string,
) ([]Receiving, error) {
	readable := s.directory.Readable(caller)
	if repository != "" {
		r, err := s.directory.Repository(caller, repository, access.Read)
		if err != nil {
			return nil, err
		}
		readable = []catalog.Repository{r}
	}
	open, err := s.DB.Receiving(ctx, s.directory.ScopeOf(readable...),
		catalog.PackageKey{Ecosystem: of.Ecosystem, Namespace: of.Namespace, Name: of.Name}, maxReceiving)
	if err != nil {
		return nil, err
	}
	files, err := s.filesOf(ctx, open)
	if err != nil {
		return nil, err
	}
	all := make([]Receiving, 0, len(open))
	for _, o := range open {
		all = append(all, s.receivingOf(o, files[o.ID]))
	}
	return all, nil
}

func (s *Publishing) receivingOf(o record.OpenVersion, files []catalog.File) Receiving {
	r := Receiving{PURL: act.PURLOf(o.PackageKey(), o.Version), Upload: o.Upload, Repository: o.Repository,
		By: o.PublishedBy, Begun: o.UploadedAt, Last: o.TouchedAt, Files: len(files)}
	for _, f := range files {
		r.Bytes += f.Digests.Size
		if f.AddedAt.Before(r.Begun) {
			r.Begun = f.AddedAt
		}
	}
	var details catalog.Details
	e := s.Ecosystem(o.Ecosystem)
	switch {
	case o.BrokenFile == record.Interrupted:
		r.Lacks = "a file, while the server was restarted"
	case o.BrokenFile != "":
		r.Lacks = o.BrokenFile + ", which did not arrive whole"
	case o.Unattended:
		r.Lacks = "perhaps a file: the node that began to receive it has died"
	case e == nil || json.Unmarshal(o.RawDetails, &details) != nil || !e.Whole(details, files):
		r.Lacks = "a file that every version has, such as its pom"
	}
	r.Until = r.Last.Add(s.Settings.QuietPeriod)
	if r.Lacks != "" {
		r.Until = r.Last.Add(abandonAfter)
	}
	return r
}

// Unfinished are the publications that stopped without what they need.
func (s *Publishing) Unfinished(ctx context.Context, caller access.Caller) (found []act.Concern, err error) {
	all, err := s.Receiving(ctx, caller, purl.PURL{}, "")
	if err != nil {
		return nil, err
	}
	var stopped []Receiving
	for _, r := range all {
		if r.Lacks != "" && s.Now().Sub(r.Last) > s.Settings.QuietPeriod {
			stopped = append(stopped, r)
		}
	}
	if len(stopped) == 0 {
		return nil, nil
	}
	first := stopped[0]
	what := fmt.Sprintf("%s, published to %s by %s, lacks %s", first.PURL.Typed(), first.Repository, first.By, first.Lacks)
	if more := len(stopped) - 1; more > 0 {
		what += fmt.Sprintf("; %d more publications are not complete", more)
	}
	return []act.Concern{{Level: "soon", What: what,
		Do: fmt.Sprintf(
			"Publish it again, whole; else it is given up on %s. crelvo receiving lists what is being received.",
			first.Until.UTC().Format(act.TimeForm)),
		Page: "/repositories/" + first.Repository}}, nil
}
