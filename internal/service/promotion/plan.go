package promotion

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"crelvo/internal/core/access"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/purl"
	"crelvo/internal/ecosystem"
	"crelvo/internal/record"
	"crelvo/internal/service/act"
	"crelvo/internal/service/builds"
	"crelvo/internal/service/publishing"
)

// Request asks for a promotion: of a build, or of versions.
type Request struct {
	Track string
	To    string   // a stage; "" is the one after the furthest that all is in
	Build string   // NAME#NUMBER
	PURLs []string // or these
	As    []string // a version for all, or package URLs with the version that each becomes
	Notes string   // for those who read about the release
	GoOn  bool     // past what cannot be restamped
}

// crossing is a promotion while it is worked out.
type crossing struct {
	track       record.Track
	from, to    catalog.Repository
	stage       record.Stage // the one that it leads to
	build       *record.Build
	notes       string
	goOn        bool
	signsBeside func(ecosystem, file string) bool
	items       []crossingItem
	problems    []string // why it cannot be
	// left is what belongs to items and does not go along; relabelled are those to which
	// references change.
	left       []leftOut
	relabelled []ecosystem.Relabelled
}

// crossingItem is a version on its way.
type crossingItem struct {
	record.MadeVersion
	to      string
	details catalog.Details
	files   []catalog.File
	rewrite []fileRewrite // of every file
	// newBytes is how many bytes are written of a version that is recast.
	newBytes int64
	// Where labels say what a version is: those that it had and that it gets, and whether it
	// only belongs to another one.
	had, labels []string
	along       bool
	// about is the version of its package that it is about; "" if it is about none.
	about string
	// restated is what became of it by stating its label; nil if nothing did.
	restated *ecosystem.Restated
}

type fileRewrite struct {
	catalog.File
	ecosystem.Rewriting
}

func (c crossingItem) purl() purl.PURL {
	p := act.PURLOf(c.Key(), c.Version)
	if len(c.had) > 0 {
		p.Qualifiers = map[string]string{"tag": c.had[0]}
	}
	return p
}

// becomes is the version or, where labels say it, the label that it becomes, for people.
func (c crossingItem) becomes() string {
	if len(c.labels) > 0 {
		return strings.Join(c.labels, " ")
	}
	return c.to
}

func (c crossingItem) restamped() bool { return c.to != c.Version }

// cross works out what a request is about.
func (s *Promotion) cross(ctx context.Context, caller access.Caller, r Request) (*crossing, error) {
	track, err := s.wholeTrack(ctx, caller, r.Track)
	if err != nil {
		return nil, err
	}
	if (r.Build == "") == (len(r.PURLs) == 0) {
		return nil, act.Invalid("no-versions", "a promotion is of a build, or of versions").
			WithHint("Give --build NAME#NUMBER, or package URLs with their versions.")
	}
	c := &crossing{signsBeside: s.signsBeside, track: track, notes: r.Notes, goOn: r.GoOn}
	candidates, err := s.candidates(ctx, caller, c, r)
	if err != nil {
		return nil, err
	}
	if err := s.chooseHop(c, r, candidates); err != nil {
		return nil, s.saidAtTheEnd(ctx, c, candidates, err)
	}
	if _, err := s.directory.Repository(caller, c.from.Name, access.Read); err != nil {
		return nil, err
	}
	if err := s.directory.Allow(caller, access.Promote, access.Of(c.to)); err != nil {
		return nil, err
	}
	for _, m := range candidates[c.from.ID] {
		if err := s.directory.Allow(caller, access.Promote,
			access.Object{Repository: c.to, Package: act.PURLOf(m.Key(), "")}); err != nil {
			return nil, err
		}
		c.items = append(c.items, crossingItem{MadeVersion: m})
	}
	if err := s.bringAlong(ctx, c); err != nil {
		return nil, err
	}
	if err := s.chooseVersions(ctx, c, r.As); err != nil {
		return nil, err
	}
	return c, s.restate(ctx, c)
}

// candidates finds the versions in question, by the repository of the track that
// they are in; of several uploads the newest.
func (s *Promotion) candidates(
	ctx context.Context, caller access.Caller, c *crossing, r Request,
) (map[int64][]record.MadeVersion, error) {
	var stages []int64
	for _, stage := range c.track.Stages {
		stages = append(stages, stage.RepositoryID)
	}
	readable := slices.DeleteFunc(s.directory.Readable(caller), func(r catalog.Repository) bool {
		return !slices.Contains(stages, r.ID)
	})
	find := s.named
	if r.Build != "" {
		find = s.ofBuild
	}
	found, err := find(ctx, caller, c, r, readable)
	if err != nil {
		return nil, err
	}
	by := map[int64][]record.MadeVersion{}
	for _, m := range found {
		list := by[m.RepositoryID]
		same := slices.IndexFunc(list, func(o record.MadeVersion) bool {
			return o.Key() == m.Key() && o.Version == m.Version
		})
		switch {
		case same < 0:
			by[m.RepositoryID] = append(list, m)
		case m.Arrived.After(list[same].Arrived) || m.Arrived.Equal(list[same].Arrived) && m.ID > list[same].ID:
			list[same] = m
		}
	}
	if len(by) == 0 {
		return nil, fault.New(fault.NotFound, "nothing-to-promote", "no stage of %s has anything of it that you may see",
			r.Track)
	}
	return by, nil
}

// ofBuild are the versions of the build that is asked for, which the crossing then is of.
func (s *Promotion) ofBuild(
	ctx context.Context, caller access.Caller, c *crossing, r Request, readable []catalog.Repository,
) ([]record.MadeVersion, error) {
	name, number, err := builds.SplitBuild(r.Build)
	if err != nil {
		return nil, err
	}
	named, err := s.builds.Builds(ctx, caller, record.BuildFilter{Name: name, Number: number, Limit: 1})
	if err != nil {
		return nil, err
	}
	if len(named) == 0 {
		return nil, builds.NoBuild(r.Build)
	}
	c.build = &named[0]
	found, err := s.DB.MadeBy(ctx, c.build.ID)
	if err != nil {
		return nil, err
	}
	open, err := s.DB.ArrivingOf(ctx, c.build.ID)
	if err != nil {
		return nil, err
	}
	for _, a := range open {
		if !c.goOn {
			c.problem("%s of %s is not complete, so it would be left behind",
				purl.PURL{Ecosystem: a.Ecosystem, Namespace: a.Namespace, Name: a.Name, Version: a.Version}, c.build.Title())
		}
	}
	return s.builds.InSight(readable, slices.DeleteFunc(found, func(m record.MadeVersion) bool {
		return m.GoneAt != nil
	})), nil
}

// named are the versions that are asked for by their package URLs; each must be there.
func (s *Promotion) named(
	ctx context.Context, _ access.Caller, _ *crossing, r Request, readable []catalog.Repository,
) ([]record.MadeVersion, error) {
	var named []record.NamedVersion
	for _, text := range r.PURLs {
		p, err := purl.Parse(text)
		if err != nil {
			return nil, err
		}
		if p.Version == "" && p.Qualifiers["tag"] == "" {
			return nil, act.Invalid("no-version", "%s does not say which version", p).WithHint("Write it as %s@VERSION.", p)
		}
		versions, err := s.labelled(ctx, readable, p)
		if err != nil {
			return nil, err
		}
		for _, version := range versions {
			named = append(named, record.NamedVersion{Key: catalog.PackageKey{Ecosystem: p.Ecosystem, Namespace: p.Namespace,
				Name: p.Name}, Version: version})
		}
	}
	found, err := s.DB.VersionsNamed(ctx, builds.RepositoryIDs(readable), named)
	if err != nil {
		return nil, err
	}
	found = s.builds.InSight(readable, found)
	for _, n := range named {
		if !slices.ContainsFunc(found, func(m record.MadeVersion) bool {
			return m.Ecosystem == n.Key.Ecosystem && m.Namespace == n.Key.Namespace && m.Name == n.Key.Name &&
				(m.Version == n.Version || m.Upload == n.Version)
		}) {
			return nil, fault.New(fault.NotFound, "no-such-version", "no stage of %s has %s", r.Track,
				act.PURLOf(n.Key, n.Version)).WithHint("Look at crelvo show %s.", act.PURLOf(n.Key, ""))
		}
	}
	return found, nil
}

// chooseHop finds the hop: the one into the stage that is asked for, or the one
// out of the furthest stage that has as much as any.
func (s *Promotion) chooseHop(c *crossing, r Request, candidates map[int64][]record.MadeVersion) error {
	at := -1
	if r.To != "" {
		at = slices.IndexFunc(c.track.Stages, func(stage record.Stage) bool {
			to, _ := s.directory.RepositoryByID(stage.RepositoryID)
			return to.Name == r.To
		}) - 1
		if at == -2 {
			return fault.New(fault.NotFound, "no-such-stage", "%s is no stage of the track %s", r.To, c.track.Name)
		}
		if at == -1 {
			return act.Invalid("first-stage", "%s is the first stage of %s; nothing is promoted into it", r.To, c.track.Name).
				WithHint("Publish to it.")
		}
	} else {
		most := 0
		for i, stage := range c.track.Stages {
			if n := len(candidates[stage.RepositoryID]); n > 0 && n >= most {
				at, most = i, n
			}
		}
		if at == len(c.track.Stages)-1 {
			last, _ := s.directory.RepositoryByID(c.track.Stages[at].RepositoryID)
			return fault.New(fault.Conflict, "at-the-end", "it is in %s already, the last stage of %s", last.Name, c.track.Name)
		}
	}
	var ok1, ok2 bool
	c.from, ok1 = s.directory.RepositoryByID(c.track.Stages[at].RepositoryID)
	c.to, ok2 = s.directory.RepositoryByID(c.track.Stages[at+1].RepositoryID)
	c.stage = c.track.Stages[at+1]
	if !ok1 || !ok2 {
		return fault.New(fault.Conflict, "stage-removed", "a stage of %s was removed", c.track.Name).
			WithHint("Have an admin write the track anew.")
	}
	if len(candidates[c.from.ID]) == 0 {
		var in []string
		for _, stage := range c.track.Stages {
			if len(candidates[stage.RepositoryID]) > 0 {
				r, _ := s.directory.RepositoryByID(stage.RepositoryID)
				in = append(in, r.Name)
			}
		}
		return fault.New(fault.Conflict, "not-in-stage", "it is not in %s, the stage before %s, but in %s", c.from.Name,
			c.to.Name, strings.Join(in, " and ")).
			WithHint("Promote it stage by stage.")
	}
	return nil
}

// saidAtTheEnd names the promotion that took versions into the last stage.
func (s *Promotion) saidAtTheEnd(
	ctx context.Context, c *crossing, candidates map[int64][]record.MadeVersion, err error,
) error {
	f := fault.Of(err)
	if f.Code != "at-the-end" {
		return err
	}
	for _, m := range candidates[c.track.Stages[len(c.track.Stages)-1].RepositoryID] {
		if id, err := s.DB.PromotedBy(ctx, m.ID); err == nil && id != 0 {
			f.Message += fmt.Sprintf("; promotion %d took it there", id)
			break
		}
	}
	return f
}

// chooseVersions decides which version each becomes.
func (s *Promotion) chooseVersions(ctx context.Context, c *crossing, as []string) error {
	all := ""
	each := map[catalog.PackageKey]string{}
	for _, text := range as {
		if !strings.HasPrefix(text, "pkg:") {
			if all != "" {
				return act.Invalid("two-versions", "it cannot become both %s and %s", all, text)
			}
			all = text
			continue
		}
		p, err := purl.Parse(text)
		if err != nil {
			return err
		}
		if p.Version == "" {
			return act.Invalid("no-version", "%s does not say which version it becomes", p)
		}
		each[catalog.PackageKey{RepositoryID: c.from.ID, Ecosystem: p.Ecosystem, Namespace: p.Namespace,
			Name: p.Name}] = p.Version
	}
	if err := s.chooseLabels(ctx, c, all, each); err != nil {
		return err
	}
	for i := range c.items {
		item := &c.items[i]
		if _, ok := s.maturing(*item); ok {
			item.to = item.Version
			continue
		}
		snapshot := purl.IsSnapshot(item.Ecosystem, item.Version)
		chosen, named := each[item.Key()]
		delete(each, item.Key())
		switch {
		case named:
			item.to = purl.NormalVersion(item.Ecosystem, chosen)
		case snapshot && !c.to.Accepts(true) && all != "":
			item.to = purl.NormalVersion(item.Ecosystem, all)
		case snapshot && !c.to.Accepts(true):
			item.to = purl.ReleaseOf(item.Ecosystem, item.Version)
		default:
			item.to = item.Version
		}
		switch {
		case item.to == "":
			c.problem("no release follows from %s; say which version it becomes (--as)", item.purl())
			item.to = item.Version
		case !snapshot && item.to != item.Version:
			c.problem("%s is a release, and stays what it is; it cannot become %s", item.purl(), item.to)
		case !c.to.Accepts(purl.IsSnapshot(item.Ecosystem, item.to)):
			c.problem("%s holds %s, and %s %s is a %s", c.to.Name, c.to.Holds, item.Name, item.to,
				publishing.Maturity(purl.IsSnapshot(item.Ecosystem, item.to)))
		}
		if !purl.IsVersion(item.Ecosystem, item.to) {
			return act.Invalid("bad-version", "%.150q can be no version of %s", item.to, item.purl().Typed()).
				WithHint("Versions of %s are such as %s.", s.Ecosystem(item.Ecosystem).Title(), purl.SampleVersion(item.Ecosystem))
		}
		if strings.ContainsAny(item.to, "/\\ \t\n%?#<>&\"'") || len(item.to) > 120 {
			return act.Invalid("bad-version", "%.150q can be no version", item.to)
		}
	}
	for key, version := range each {
		return act.Invalid("not-among-them", "%s is not among what is promoted", act.PURLOf(key, version))
	}
	return nil
}

func (c *crossing) problem(format string, args ...any) {
	if text := fmt.Sprintf(format, args...); !slices.Contains(c.problems, text) {
		c.problems = append(c.problems, text)
	}
}

// letIn makes a problem of what either repository keeps out because of what is known of it.
func (s *Promotion) letIn(ctx context.Context, c *crossing, item crossingItem) error {
	for _, at := range []struct {
		r       catalog.Repository
		version string
	}{{c.from, item.Version}, {c.to, item.to}} {
		judge, err := s.safety.Judge(ctx, at.r, item.Key())
		if err != nil {
			return err
		}
		if v := judge.Of(&catalog.Version{Version: at.version, Details: item.details}); v.Refused {
			c.problem("%s keeps out %s %s: %s", at.r.Name, item.Name, at.version, v.Why)
			return nil
		}
	}
	return nil
}

// load reads what is needed of the versions, and looks for what stands in their
// way.
func (s *Promotion) load(ctx context.Context, c *crossing) error {
	ids := make([]int64, len(c.items))
	keys := make([]catalog.PackageKey, len(c.items))
	for i, item := range c.items {
		ids[i] = item.ID
		keys[i] = item.Key()
		keys[i].RepositoryID = c.to.ID
	}
	files, err := s.DB.FilesOf(ctx, ids)
	if err != nil {
		return err
	}
	details, err := s.DB.DetailsOf(ctx, ids)
	if err != nil {
		return err
	}
	there, err := s.DB.ReleasesOf(ctx, c.to.ID, keys)
	if err != nil {
		return err
	}
	withdrawn, err := s.DB.WithdrawnOf(ctx, ids)
	if err != nil {
		return err
	}
	for i := range c.items {
		item := &c.items[i]
		item.files, item.details = files[item.ID], details[item.ID]
		slices.SortFunc(item.files, func(a, b catalog.File) int { return strings.Compare(a.Name, b.Name) })
		if reason, ok := withdrawn[item.ID]; ok && !c.goOn {
			c.problem("%s is withdrawn%s", item.purl(), strings.TrimSuffix(": "+reason, ": "))
		}
		if err := s.letIn(ctx, c, *item); err != nil {
			return err
		}
		if slices.Contains(there[keys[i]], item.to) {
			if _, ok := s.maturing(*item); ok {
				c.problem("%s has the very bytes of %s already, as %s", c.to.Name, item.Name, item.to)
			} else {
				c.problem("%s has %s %s already", c.to.Name, item.Name, item.to)
			}
		}
		if same := slices.IndexFunc(c.items[:i], func(o crossingItem) bool {
			return o.Key() == item.Key() && o.to == item.to
		}); same >= 0 {
			c.problem("%s and %s would both become %s", c.items[same].purl(), item.purl(), item.to)
		}
	}
	return nil
}

// comesBack looks, for a plan, for releases that were in the target before with other
// bytes. Where their bytes are made on the way, they are made for that.
func (s *Promotion) comesBack(ctx context.Context, c *crossing) error {
	named := make([]record.NamedVersion, len(c.items))
	for i, item := range c.items {
		named[i] = record.NamedVersion{Key: item.Key(), Version: item.to}
	}
	gone, err := s.DB.GoneFiles(ctx, c.to.ID, named)
	if err != nil || len(gone) == 0 || len(c.problems) > 0 {
		return err
	}
	work := &carrying{crossing: c, planned: true}
	defer func() {
		for _, st := range work.staged {
			st.Discard()
		}
	}()
	plan := make([][]fileRewrite, len(c.items))
	for i := range c.items { // making the files would add to the plan
		plan[i], c.items[i].rewrite = c.items[i].rewrite, nil
	}
	placed, err := s.makeFiles(ctx, work)
	for i := range c.items {
		c.items[i].rewrite = plan[i]
	}
	if err != nil {
		return err
	}
	for _, g := range gone {
		for i, v := range placed {
			if !slices.ContainsFunc(v.Files, func(f record.PlacedFile) bool {
				return g.Other(f.Name, f.Digests.SHA256)
			}) {
				continue
			}
			if of := c.items[i]; g.Ecosystem == of.Ecosystem && g.Namespace == of.Namespace && g.Name == of.Name &&
				g.Version == v.Version {
				c.problem("%s %s was in %s before, with other bytes, and removed; a release does not come back as something else",
					of.Name, v.Version, c.to.Name)
			}
		}
	}
	return nil
}

// maxChanges is how many changes of one file are told.
const maxChanges = 500

// rewrite finds what is changed inside the files.
func (s *Promotion) rewrite(ctx context.Context, c *crossing) error {
	stamps := c.stamps()
	for i := range c.items {
		item := &c.items[i]
		if done, err := s.planRecast(ctx, c, item); err != nil {
			if told := fault.Of(err); told.Kind == fault.Internal || told.Kind == fault.Unavailable {
				return err
			}
			c.problem("%s: %v", item.purl(), err)
		} else if done {
			continue
		}
		e, ok := s.Ecosystem(item.Ecosystem).(ecosystem.Restamping)
		if !item.restamped() {
			for _, f := range item.files {
				item.rewrite = append(item.rewrite, fileRewrite{f, ecosystem.Rewriting{Name: f.Name}})
			}
			continue
		}
		if item.restated != nil {
			for _, f := range item.files {
				item.rewrite = append(item.rewrite, fileRewrite{f, item.rewriting(f)})
			}
			continue
		}
		if !ok {
			c.problem("%s cannot be given another version: Crelvo cannot restamp packages of this kind", item.purl())
			continue
		}
		for _, f := range item.files {
			r, err := s.restamp(ctx, c, e, *item, f, stamps[item.Ecosystem])
			if err != nil {
				c.problem("%s: %v", f.Name, err)
			}
			for _, o := range r.Obstacles {
				where := f.Name
				if o.Entry != "" {
					where += ": " + o.Entry
				}
				if !c.goOn {
					c.problem("%s: %s", where, o.Reason)
				}
			}
			item.rewrite = append(item.rewrite, fileRewrite{f, r})
		}
	}
	return ctx.Err()
}

// stamps are those of all that is restamped, by ecosystem.
func (c *crossing) stamps() map[string]ecosystem.Stamps {
	stamps := map[string]ecosystem.Stamps{}
	for _, item := range c.items {
		if item.restamped() && item.restated == nil {
			stamps[item.Ecosystem] = append(stamps[item.Ecosystem], item.stamp())
		}
	}
	return stamps
}

func (c crossingItem) stamp() ecosystem.Stamp {
	return ecosystem.Stamp{Namespace: c.Namespace, Name: c.Name, From: c.Version, Upload: c.Upload, To: c.to}
}

// restamp plans what is changed in a file. What it gives is not to be written:
// the file is closed again.
func (s *Promotion) restamp(
	ctx context.Context, c *crossing, e ecosystem.Restamping, item crossingItem, f catalog.File, all ecosystem.Stamps,
) (ecosystem.Rewriting, error) {
	content, err := s.store.Open(ctx, f)
	if err != nil {
		return ecosystem.Rewriting{Name: f.Name}, err
	}
	defer content.Close()
	r, err := e.Restamp(ctx, ecosystem.ToRestamp{SizedReaderAt: ecosystem.Sized(content, f.Digests.Size), File: f,
		Stamp: item.stamp(), All: all, Relabelled: c.relabelled})
	if r.Name == "" {
		r.Name = f.Name
	}
	return r, err
}
