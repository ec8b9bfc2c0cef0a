package safety

import (
	"context"
	"fmt"
	"slices"
	"time"

	"crelvo/internal/core/attest"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/purl"
	"crelvo/internal/core/safety"
	"crelvo/internal/core/spdx"
	"crelvo/internal/ecosystem"
	"crelvo/internal/service/act"
)

// Judge decides about the versions of one package in one repository.
type Judge struct {
	repository catalog.Repository
	of         purl.PURL
	rules      safety.Rules
	known      []safety.Known
	by         safety.Decisions
	now        time.Time
	then       bool   // it is decided as of a moment
	like       string // the well-known package whose name its name looks like; "" if there is none
	installs   ecosystem.Installs
	telling    ecosystem.Telling
	signed     ecosystem.Signed
	keys       []attest.Key // nil if no rule asks for signatures
	aside      *besides     // nil if no rule asks for it
	compares   bool         // some rule compares with the version before
	among      []catalog.Version
	earlier    []*catalog.Version // of these, those that are kept, in their order
	asks       func() string      // who can decide
}

// Judge gives who decides about a package in a repository; nil if all of it is let in. As of a
// moment, what was kept then is let in, unless it is malicious. What was only listed then was let in
// by nobody, and is decided about by what holds now and the age that it had, or else whoever names a
// moment gets what awaits a decision.
func (s *Safety) Judge(ctx context.Context, r catalog.Repository, key catalog.PackageKey) (*Judge, error) {
	j, err := s.judge(ctx, r, key)
	if err != nil || len(j.known) == 0 && len(j.by.Vettings) == 0 && !j.rules.NeedFacts() {
		return nil, err
	}
	return j, nil
}

// Assessor is Judge, whose facts are all that is known, whether or not a rule asks for them.
func (s *Safety) Assessor(ctx context.Context, r catalog.Repository, key catalog.PackageKey) (*Judge, error) {
	j, err := s.judge(ctx, r, key)
	if err != nil {
		return nil, err
	}
	j.compares = true
	if j.aside, err = s.asideOf(ctx, r, key); err == nil && j.signed != nil {
		j.keys, err = s.trusted(ctx)
	}
	return j, err
}

func (s *Safety) judge(ctx context.Context, r catalog.Repository, key catalog.PackageKey) (*Judge, error) {
	known, err := s.Known(ctx, key)
	if err != nil {
		return nil, err
	}
	standing, err := s.standing(ctx)
	if err != nil {
		return nil, err
	}
	j := &Judge{repository: r, of: act.PURLOf(key, ""), rules: r.Safety, known: known, now: s.Now()}
	j.by = safety.Decisions{Waivers: standing.waivers, Vettings: standing.vettings.Of(j.of, r.Name)}
	if key.AsOf != 0 {
		j.then, j.now = true, key.AsOf.Time()
	}
	if r.Safety.Vets {
		if j.like, err = s.looksLike(ctx, j.of); err != nil {
			return nil, err
		}
	}
	j.installs, _ = s.Ecosystem(key.Ecosystem).(ecosystem.Installs)
	j.telling, _ = s.Ecosystem(key.Ecosystem).(ecosystem.Telling)
	j.signed, _ = s.Ecosystem(key.Ecosystem).(ecosystem.Signed)
	aside := !r.Own() && !r.Safety.Licences.IsZero()
	for _, a := range r.Safety.Accepts {
		if a.SignedBy != nil && j.keys == nil && j.signed != nil {
			if j.keys, err = s.trusted(ctx); err != nil {
				return nil, err
			}
		}
		j.compares = j.compares || a.SameMaintainers || a.SizeWithin > 0
		aside = aside || a.Downloads > 0 || a.NoBinaries || a.Licences != nil || a.BuiltFrom != ""
	}
	if aside {
		if j.aside, err = s.asideOf(ctx, r, key); err != nil {
			return nil, err
		}
	}
	j.asks = func() string { return s.directory.WhoManages(r) }
	return j, nil
}

// NeedsFacts tells whether more must be known of a version than its name.
func (j *Judge) NeedsFacts() bool {
	return j != nil && (j.rules.NeedFacts() || j.then && (j.rules.Refuse != safety.Unknown || len(j.by.Vettings) > 0))
}

// mostKnown is among how many names of an ecosystem it is looked for ones that look alike.
const mostKnown = 5000

// looksLike is the package that is ours or much used, and whose name that of another one looks
// like; "" if there is none.
func (s *Safety) looksLike(ctx context.Context, p purl.PURL) (string, error) {
	known, _, err := act.Figure(ctx, s.Act, "well-known "+p.Ecosystem,
		func(ctx context.Context) (*safety.Likeness, error) {
			all, err := s.DB.WellKnown(ctx, p.Ecosystem, mostKnown)
			names := make([]string, len(all))
			for i, key := range all {
				names[i] = nameOf(key.Namespace, key.Name)
			}
			return safety.NewLikeness(names), err
		})
	if err != nil {
		return "", err
	}
	return known.Of(nameOf(p.Namespace, p.Name)), nil
}

func nameOf(namespace, name string) string {
	if namespace == "" {
		return name
	}
	return namespace + "/" + name
}

// Named tells whether a version is let in as far as that follows from its name. A nil Judge lets
// in everything.
func (j *Judge) Named(version string) safety.Verdict {
	if j == nil {
		return safety.Verdict{}
	}
	if j.then {
		return j.kept(version) // whether it was kept is a fact
	}
	return safety.Decide(safety.Rules{Refuse: j.rules.Refuse}, j.purl(version), safety.Facts{},
		safety.Find(j.known, version), j.by, j.now)
}

// kept tells whether a version is let in that was kept at a moment.
func (j *Judge) kept(version string) safety.Verdict {
	return safety.Decide(safety.Rules{}, j.purl(version), safety.Facts{}, safety.Find(j.known, version),
		safety.Decisions{Waivers: j.by.Waivers}, j.now)
}

// Among says which versions there are of the package, with which one is compared where a rule does.
func (j *Judge) Among(all []catalog.Version) *Judge {
	if j != nil {
		j.among, j.earlier = all, nil
	}
	return j
}

// Of tells whether a version is let in.
func (j *Judge) Of(v *catalog.Version) safety.Verdict {
	if j == nil {
		return safety.Verdict{}
	}
	verdict := j.ByFacts(v.Version, j.Facts(v))
	if verdict.Ground == safety.Awaiting && j.aside != nil {
		// How often it was downloaded is told by no change.
		if again := j.now.Add(asideHolds); verdict.Until.IsZero() || again.Before(verdict.Until) {
			verdict.Until = again
		}
	}
	return verdict
}

// before is the newest version that is kept and comes before one; nil if there is none.
func (j *Judge) before(version string) *catalog.Version {
	if j.earlier == nil {
		j.earlier = []*catalog.Version{}
		for i := range j.among {
			if v := &j.among[i]; !v.Listed && !v.Snapshot {
				j.earlier = append(j.earlier, v)
			}
		}
		slices.SortFunc(j.earlier, func(a, b *catalog.Version) int {
			return purl.Compare(j.of.Ecosystem, a.Version, b.Version)
		})
	}
	at, _ := slices.BinarySearchFunc(j.earlier, version, func(v *catalog.Version, version string) int {
		return purl.Compare(j.of.Ecosystem, v.Version, version)
	})
	if at == 0 {
		return nil
	}
	return j.earlier[at-1]
}

// ByFacts tells whether a version is let in of which not more is known.
func (j *Judge) ByFacts(version string, f safety.Facts) safety.Verdict {
	if j == nil {
		return safety.Verdict{}
	}
	if j.then && f.Kept {
		return j.kept(version)
	}
	return safety.Decide(j.rules, j.purl(version), f, safety.Find(j.known, version), j.by, j.now)
}

// ByName tells whether something is let in that is named by its content, of which not more is known
// than its name: nobody tells its age or licence.
func (j *Judge) ByName(version string, outside bool) safety.Verdict {
	if j == nil {
		return safety.Verdict{}
	}
	rules := j.rules
	rules.Cooldown, rules.Licences = 0, safety.LicenceRules{}
	return safety.Decide(rules, j.purl(version), safety.Facts{Outside: outside}, safety.Find(j.known, version),
		j.by, j.now)
}

// Facts are what is known of a version.
func (j *Judge) Facts(v *catalog.Version) safety.Facts {
	f := safety.Facts{Outside: v.Outside, Kept: !v.Listed, Published: v.Dated, Like: j.like}
	if j.installs != nil {
		f.Runs = j.installs.RunsAtInstall(&v.Details)
	}
	for _, l := range v.Details.Licences {
		if l.Name != "" {
			f.Licences = append(f.Licences, spdx.Identifier(l.Name))
		}
	}
	if j.compares {
		f.Size, f.Maintainers = j.told(v)
		if before := j.before(v.Version); before != nil {
			f.Before = &safety.Earlier{Version: before.Version}
			f.Before.Size, f.Before.Maintainers = j.told(before)
		}
	}
	if j.keys != nil {
		for _, e := range j.signed.Signatures(catalog.PackageKey{Namespace: j.of.Namespace, Name: j.of.Name}, v) {
			f.SignedBy = append(f.SignedBy, attest.Signers(j.keys, e.Message, e.Signature)...)
		}
	}
	if j.aside != nil {
		f.Downloads = j.aside.Downloads
		if look, ok := j.aside.looks[v.Version]; ok && !contradicts(v, look) {
			f.Looked, f.Code, f.BuiltFrom = true, look.Code, look.builtFrom
			if f.Licences == nil {
				f.Licences = look.Licences
			}
		}
	}
	return f
}

// told is how large a version is, and who looks after it, as far as it says: of its files the largest
// one counts, if it does not say what is inside, since some may come later.
func (j *Judge) told(v *catalog.Version) (size int64, maintainers []string) {
	if j.telling != nil {
		size, maintainers = j.telling.Unpacked(&v.Details), j.telling.Maintainers(&v.Details)
	}
	if size == 0 {
		for _, f := range v.Files {
			size = max(size, f.Digests.Size)
		}
	}
	return size, maintainers
}

// contradicts tells whether what was looked into is not what a version has now.
func contradicts(v *catalog.Version, look look) bool {
	return slices.ContainsFunc(v.Files, func(f catalog.File) bool {
		return f.Name == look.File && f.Digests.Contradicts(look.Digests)
	})
}

// Try tells of each rule that accepts, in their order, what its conditions say of a version.
func (j *Judge) Try(v *catalog.Version) (all [][]safety.Condition) {
	if j == nil {
		return nil
	}
	for _, rule := range j.rules.Accepts {
		conditions, _ := rule.Try(j.purl(v.Version), j.Facts(v), safety.Find(j.known, v.Version), j.by.Waivers, j.now)
		all = append(all, conditions)
	}
	return all
}

func (j *Judge) purl(version string) purl.PURL {
	p := j.of
	p.Version = version
	return p
}

// Findings are what advisories say of a version, the worst first, whether or not it is let
// in.
func (j *Judge) Findings(version string) []safety.Finding {
	if j == nil {
		return nil
	}
	return safety.Find(j.known, version)
}

// Refusal is what whoever asks for a version is told that a verdict keeps out; nil if it does
// not.
func (j *Judge) Refusal(version string, v safety.Verdict) *fault.Error {
	if !v.Refused {
		return nil
	}
	k := j.KeptOut(version, v)
	return Refused(j.repository, j.purl(version), k)
}

// KeptOut is a version that a verdict keeps out.
func (j *Judge) KeptOut(version string, v safety.Verdict) catalog.KeptOut {
	k := catalog.KeptOut{Version: version, By: j.repository.ID, Why: v.Why, Awaits: v.Ground == safety.Awaiting}
	switch v.Ground {
	case safety.ByPerson, safety.ByLicence:
		k.Hint = "Take another version or package; " + j.asks() + " can let it in."
	case safety.TooYoung:
		k.Hint = "Take an older version until then; " + j.asks() + " can let it in before."
	case safety.Awaiting:
		k.Hint = j.asks() + " can decide. " + HowToAsk(j.repository, j.purl(version))
	case safety.ByAdvisory:
		k.Hint = fmt.Sprintf("Take another version. crelvo advisory show %s tells more.", v.By.ID)
		if fixed := v.By.FixedIn; len(fixed) > 0 {
			k.Hint = fmt.Sprintf("It is mended in %s. crelvo advisory show %s tells more.", fixed[len(fixed)-1], v.By.ID)
		}
	}
	return k
}

// HowToAsk says how somebody says what they need a version for.
func HowToAsk(r catalog.Repository, p purl.PURL) string {
	return fmt.Sprintf("To say what you need it for: crelvo vetting ask %s --in %s --for …", p.Typed(), r.Name)
}

// Refused is what whoever asks for a version is told that a repository keeps out.
func Refused(r catalog.Repository, p purl.PURL, k catalog.KeptOut) *fault.Error {
	f := fault.New(fault.Denied, ecosystem.KeptOut, "%s keeps out %s: %s", r.At(), p.Typed(), k.Why)
	f.Hint, f.Cause = k.Hint, &Refusal{Repository: r, PURL: p, KeptOut: k}
	return f
}

// Refusal is the cause of a fault that says that a version is kept out.
type Refusal struct {
	Repository catalog.Repository
	PURL       purl.PURL
	catalog.KeptOut
}

// Error implements error.
func (r *Refusal) Error() string { return r.Why }
