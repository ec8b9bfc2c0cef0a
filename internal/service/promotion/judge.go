package promotion

import (
	"context"
	"errors"
	"io"
	"slices"
	"strings"

	"crelvo/internal/core/catalog"
	"crelvo/internal/core/promotion"
	"crelvo/internal/core/purl"
	"crelvo/internal/core/symbols"
	"crelvo/internal/ecosystem"
	"crelvo/internal/record"
	"crelvo/internal/service/act"
	"crelvo/internal/service/keys"
)

// judge asks the gates. before are answers of an earlier time: outside checks that
// have decided are not asked again.
func (s *Promotion) judge(
	ctx context.Context, c *crossing, gates []string, asker string, id int64, dryRun bool, votes []record.PromotionVote,
	before []promotion.Answer,
) ([]promotion.Answer, error) {
	facts := promotion.Facts{Now: s.Now(), Asker: asker, From: c.from.Name, To: c.to.Name,
		Outside: map[string]promotion.Outside{}}
	for _, v := range votes {
		facts.Votes = append(facts.Votes, promotion.Vote{Who: v.Who, Teams: v.Teams, Approve: v.Approve, Comment: v.Comment})
	}
	parsed, err := parseGates(gates)
	if err != nil {
		return nil, err
	}
	builds, err := s.buildFacts(ctx, c)
	if err != nil {
		return nil, err
	}
	keys := make([]catalog.PackageKey, len(c.items))
	for i, item := range c.items {
		keys[i] = item.Key()
		keys[i].RepositoryID = c.to.ID
	}
	there, err := s.DB.ReleasesOf(ctx, c.to.ID, keys)
	if err != nil {
		return nil, err
	}
	advised, err := s.advised(ctx, c, parsed, &facts)
	if err != nil {
		return nil, err
	}
	unvetted, err := s.unvetted(ctx, c, parsed)
	if err != nil {
		return nil, err
	}
	programs, err := s.programs(ctx, c, parsed)
	if err != nil {
		return nil, err
	}
	for i, item := range c.items {
		if s.accompanies(c, item) {
			continue // what it belongs to is judged
		}
		fact := promotion.Item{PURL: item.purl(), To: item.to, Since: item.PublishedAt, Build: builds[item.BuildID],
			Licences: item.details.Licences, There: there[keys[i]], Advised: advised(item),
			Unvetted: unvetted[item.BuildID], Programs: programs(item)}
		if len(item.labels) > 0 {
			if fact.To, fact.There, err = s.labelsThere(ctx, c, item, keys[i]); err != nil {
				return nil, err
			}
		}
		for _, d := range item.details.Dependencies {
			if !c.crosses(item.Ecosystem, d.PURL) {
				fact.Dependencies = append(fact.Dependencies, d)
			}
		}
		if err := s.signatures(ctx, c, item, parsed, &fact); err != nil {
			return nil, err
		}
		facts.Items = append(facts.Items, fact)
	}
	s.askAll(ctx, c, parsed, before, outsideQuestion{Promotion: id, DryRun: dryRun, AskedBy: asker}, facts.Outside)
	return promotion.Judge(parsed, facts), ctx.Err()
}

// askAll asks the outside checks that have not answered before.
func (s *Promotion) askAll(
	ctx context.Context, c *crossing, gates []promotion.Gate, before []promotion.Answer, q outsideQuestion,
	outside map[string]promotion.Outside,
) {
	for _, g := range gates {
		if g.Kind != promotion.Asks {
			continue
		}
		if i := slices.IndexFunc(before, func(a promotion.Answer) bool {
			return a.Gate == g.String() && a.State != promotion.Waiting
		}); i >= 0 && len(before[i].Facts) > 0 {
			outside[g.URL] = promotion.Outside{State: before[i].State, Fact: before[i].Facts[0]}
			continue
		}
		q := q
		q.Track, q.From, q.To = c.track.Name, c.from.Name, c.to.Name
		if c.build != nil {
			q.Build = c.build.Title()
		}
		for _, item := range c.items {
			q.Versions = append(q.Versions, outsideVersions{item.purl().String(), item.to})
		}
		outside[g.URL] = s.askOutside(ctx, g, q)
	}
}

func parseGates(texts []string) (gates []promotion.Gate, err error) {
	for _, text := range texts {
		g, err := promotion.ParseGate(text)
		if err != nil {
			return nil, err
		}
		gates = append(gates, g)
	}
	return gates, nil
}

// programs gives the programs of an item, as far as gates look at them.
func (s *Promotion) programs(
	ctx context.Context, c *crossing, gates []promotion.Gate,
) (func(crossingItem) *promotion.Programs, error) {
	if !slices.ContainsFunc(gates, func(g promotion.Gate) bool { return g.Kind == promotion.WithSymbols }) {
		return func(crossingItem) *promotion.Programs { return nil }, nil
	}
	var ids []int64
	for _, item := range c.items {
		ids = append(ids, item.ID)
	}
	known, err := s.DB.ProgramsOf(ctx, ids, []int64{c.from.ID, c.to.ID})
	return func(item crossingItem) *promotion.Programs {
		if !slices.Contains(symbols.LookedInto, item.Ecosystem) {
			return &promotion.Programs{}
		}
		found, looked := known[item.ID]
		if !looked {
			return nil
		}
		of := promotion.Programs(found)
		return &of
	}, err
}

// advised gives what advisories say of an item, of what it has inside as a bill of materials says, and
// of what its build used, as far as gates look at that, and notes whether any are known.
func (s *Promotion) advised(
	ctx context.Context, c *crossing, gates []promotion.Gate, facts *promotion.Facts,
) (func(crossingItem) []promotion.Advised, error) {
	nothing := func(crossingItem) []promotion.Advised { return nil }
	if !slices.ContainsFunc(gates, func(g promotion.Gate) bool { return g.Kind == promotion.NoAdvisories }) {
		return nothing, nil
	}
	var keys []catalog.PackageKey
	var ids []int64
	for _, item := range c.items {
		keys, ids = append(keys, item.Key()), append(ids, item.ID)
	}
	inside, err := s.DB.InsideOf(ctx, ids)
	if err != nil {
		return nothing, err
	}
	in := map[int64][]purl.PURL{}
	for _, i := range inside {
		keys, in[i.ID] = append(keys, i.EntryKey()), append(in[i.ID], i.Entry())
	}
	used, err := s.DB.UsedByBuilds(ctx, c.builds())
	if err != nil {
		return nothing, err
	}
	for _, all := range used {
		for _, u := range all {
			keys = append(keys, u.Key())
		}
	}
	advice, known, err := s.safety.Advised(ctx, keys)
	facts.Advisories = known
	return func(item crossingItem) (found []promotion.Advised) {
		add := func(p purl.PURL, inside bool) {
			key := catalog.PackageKey{Ecosystem: p.Ecosystem, Namespace: p.Namespace, Name: p.Name}
			for _, k := range advice[key].Standing(p.Version) {
				found = append(found, promotion.Advised{PURL: p, Finding: k.Finding(), Inside: inside})
			}
		}
		add(item.purl(), false)
		for _, p := range in[item.ID] {
			add(p, true)
		}
		for _, u := range used[item.BuildID] {
			add(act.PURLOf(u.Key(), u.Version), false)
		}
		return found
	}, err
}

// builds are those that made the items.
func (c *crossing) builds() (ids []int64) {
	for _, item := range c.items {
		if item.BuildID != 0 && !slices.Contains(ids, item.BuildID) {
			ids = append(ids, item.BuildID)
		}
	}
	return ids
}

// unvetted gives what each build used from outside that nobody decided about, if a gate looks at
// that.
func (s *Promotion) unvetted(
	ctx context.Context, c *crossing, gates []promotion.Gate,
) (map[int64][]purl.PURL, error) {
	if !slices.ContainsFunc(gates, func(g promotion.Gate) bool { return g.Kind == promotion.Vetted }) {
		return nil, nil
	}
	used, err := s.DB.UsedByBuilds(ctx, c.builds())
	if err != nil {
		return nil, err
	}
	var all []purl.PURL
	for _, some := range used {
		for _, u := range some {
			all = append(all, act.PURLOf(u.Key(), u.Version))
		}
	}
	open, err := s.vetting.Unvetted(ctx, all)
	if err != nil {
		return nil, err
	}
	by := map[int64][]purl.PURL{}
	for build, some := range used {
		for _, u := range some {
			if p := act.PURLOf(u.Key(), u.Version); open[p.String()] {
				by[build] = append(by[build], p)
			}
		}
	}
	return by, nil
}

// signatures adds who signed an item and what is attached to it, as far as gates look at that.
func (s *Promotion) signatures(
	ctx context.Context, c *crossing, item crossingItem, gates []promotion.Gate, fact *promotion.Item,
) (err error) {
	asks := func(kind promotion.Kind) bool {
		return slices.ContainsFunc(gates, func(g promotion.Gate) bool { return g.Kind == kind })
	}
	signed := asks(promotion.SignedBy)
	if !signed && !asks(promotion.ComesWith) {
		return nil
	}
	if fact.With, fact.Signers, err = s.endorsed(ctx, c, item, signed); err != nil || !signed || fact.Signers != nil {
		return err
	}
	fact.Signers, err = s.signersOfFiles(ctx, item)
	for file := range fact.Signers {
		if s.signsBeside(item.Ecosystem, file) {
			fact.WillSign = c.stage.SignWith
		}
	}
	return err
}

// crosses tells whether a package crosses the hop too.
func (c *crossing) crosses(ecosystem, name string) bool {
	p, err := purl.Parse(name)
	return err == nil && slices.ContainsFunc(c.items, func(o crossingItem) bool {
		return o.Ecosystem == ecosystem && o.Namespace == p.Namespace && o.Name == p.Name
	})
}

func (s *Promotion) buildFacts(ctx context.Context, c *crossing) (map[int64]*promotion.Build, error) {
	var ids []int64
	for _, item := range c.items {
		if item.BuildID != 0 && !slices.Contains(ids, item.BuildID) {
			ids = append(ids, item.BuildID)
		}
	}
	of := map[int64]*promotion.Build{}
	if ids == nil {
		return of, nil
	}
	builds, err := s.DB.Builds(ctx, record.BuildFilter{IDs: ids})
	if err != nil {
		return nil, err
	}
	for _, b := range builds {
		of[b.ID] = &promotion.Build{Name: b.Title(), Owner: b.Owner, Recorded: b.EndedAt != nil, Tests: b.Tests}
	}
	documents, err := s.DB.Documents(ctx, ids...)
	for _, d := range documents {
		if b := of[d.BuildID]; b != nil {
			b.Statements = append(b.Statements, promotion.Statement{Type: d.Type, SignedBy: d.SignedBy})
		}
	}
	return of, err
}

// maxSignature is how large a signature may be that is looked at, in bytes.
const maxSignature = 64 << 10

// signersOfFiles verifies the signatures that stand beside files.
func (s *Promotion) signersOfFiles(ctx context.Context, item crossingItem) (map[string][]string, error) {
	known, err := s.keys.Keys(ctx)
	if err != nil {
		return nil, err
	}
	by := map[string][]string{}
	for _, f := range item.files {
		beside, some := s.Ecosystem(item.Ecosystem).(ecosystem.SignedBeside)
		if strings.HasSuffix(f.Name, signatureEnding) || some && !beside.SignsBeside(f.Name) {
			continue
		}
		by[f.Name] = nil
		i := slices.IndexFunc(item.files, func(o catalog.File) bool { return o.Name == f.Name+signatureEnding })
		if i < 0 || item.files[i].Digests.Size > maxSignature {
			continue
		}
		signature, err := s.content(ctx, item.files[i])
		if err != nil {
			return nil, err
		}
		content, err := s.store.Open(ctx, f)
		if err != nil {
			return nil, err
		}
		by[f.Name], err = keys.SignersOf(known, content, signature)
		if err = errors.Join(err, content.Close()); err != nil {
			return nil, err
		}
	}
	return by, nil
}

func (s *Promotion) content(ctx context.Context, f catalog.File) ([]byte, error) {
	r, err := s.store.Open(ctx, f)
	if err != nil {
		return nil, err
	}
	defer r.Close()
	return io.ReadAll(r)
}
