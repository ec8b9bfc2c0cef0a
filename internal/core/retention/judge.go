package retention

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"crelvo/internal/core/purl"
)

// NothingKeeps is the reason of versions that are swept.
const NothingKeeps = "no reason keeps it"

// Judge says what becomes of each version of a package in a run of the first of
// the policies, as of now. The others are those that are about the repository
// too: what one of them keeps, stays. The versions are put into their order: the
// highest first, and of one the newest upload first. Every query fits or not by
// Version.Fits.
func Judge(policies []*Policy, p *Package, now time.Time) []Verdict {
	arrange(p.Key.Ecosystem, p.Versions)
	verdicts := make([]Verdict, len(p.Versions))
	about := make([][]bool, len(policies))
	newest := make([][][]bool, len(policies))
	for i, policy := range policies {
		about[i] = covered(policy, i, p, now)
		newest[i] = newestOf(policy, p, about[i])
	}
	for v := range p.Versions {
		verdicts[v] = Verdict{Fate: Outside}
		if !about[0][v] {
			continue
		}
		verdicts[v] = Verdict{Fate: Swept, Reason: NothingKeeps, Because: NothingKeeps, Policy: policies[0].Name}
		version := &p.Versions[v]
		if reason, because := marked(policies[0], version, now); reason != "" {
			verdicts[v] = Verdict{Fate: Kept, Reason: reason, Because: because}
			continue
		}
	policies:
		for i, policy := range policies {
			if !about[i][v] {
				continue
			}
			for r := range policy.Keep {
				among := newest[i][r] != nil && newest[i][r][v]
				if reason := policy.Keep[r].keeps(version, p.Rooms, among, now); reason != "" {
					verdicts[v] = Verdict{Fate: Kept, Policy: policy.Name, Reason: reason, Because: policy.Keep[r].String()}
					break policies
				}
			}
		}
	}
	if len(policies) > 0 && len(policies[0].Platforms) == 0 {
		together(p, verdicts)
	}
	return verdicts
}

// together keeps what versions that stay are made of, and what is about them.
func together(p *Package, verdicts []Verdict) {
	var at map[string]int
	about := map[string][]int{}
	var staying []int
	for v := range p.Versions {
		version := &p.Versions[v]
		if version.Parts == nil && version.About == "" {
			continue
		}
		if at == nil { // nearly no package has any
			at = make(map[string]int, len(p.Versions))
			for i := range p.Versions {
				at[p.Versions[i].Version] = i
				if verdicts[i].Fate != Swept {
					staying = append(staying, i)
				}
			}
		}
		if version.About != "" {
			about[version.About] = append(about[version.About], v)
		}
	}
	keep := func(v int, because, of string) {
		if verdicts[v].Fate == Swept {
			verdicts[v] = Verdict{Fate: Kept, Policy: verdicts[v].Policy, Reason: because + " " + of, Because: because}
			staying = append(staying, v)
		}
	}
	for len(staying) > 0 && at != nil {
		of := &p.Versions[staying[len(staying)-1]]
		staying = staying[:len(staying)-1]
		name := of.Version
		if len(of.Labels) > 0 {
			name = of.Labels[0]
		}
		for _, part := range of.Parts {
			if v, ok := at[part]; ok {
				keep(v, "part of", name)
			}
		}
		for _, v := range about[of.Version] {
			keep(v, "about", name)
		}
	}
}

// arrange puts versions into their order. They are large, so each is moved once.
func arrange(ecosystem string, versions []Version) {
	from := make([]int32, len(versions))
	for i := range from {
		from[i] = int32(i)
	}
	slices.SortFunc(from, func(a, b int32) int { return order(ecosystem, &versions[b], &versions[a]) })
	for start := range from {
		if from[start] == int32(start) {
			continue
		}
		// Around the circle of those that take each other's places.
		first, at := versions[start], start
		for next := int(from[at]); next != start; next = int(from[at]) {
			versions[at], from[at] = versions[next], int32(at)
			at = next
		}
		versions[at], from[at] = first, int32(at)
	}
}

// order is the order of versions, and of uploads of one version.
func order(ecosystem string, a, b *Version) int {
	if a.Version != b.Version {
		if c := purl.Compare(ecosystem, a.Version, b.Version); c != 0 {
			return c
		}
	}
	return cmp.Or(a.UploadedAt.Compare(b.UploadedAt), cmp.Compare(a.UploadCount, b.UploadCount), cmp.Compare(a.ID, b.ID))
}

// covered tells which versions a policy is about.
func covered(policy *Policy, index int, p *Package, now time.Time) []bool {
	about := make([]bool, len(p.Versions))
	for v := range p.Versions {
		version := &p.Versions[v]
		about[v] = version.Fits[index] && !version.At.After(now) && (len(policy.Packages) == 0 ||
			slices.ContainsFunc(policy.Packages, func(pattern purl.Pattern) bool {
				of := p.Key
				of.Version = version.Version
				return pattern.Match(of)
			})) && (len(policy.Platforms) == 0 || policy.onlyFor(version.Platforms))
	}
	return about
}

// onlyFor tells whether the policy is about what is for these platforms: each is one of its
// own, or a variant of one.
func (p *Policy) onlyFor(platforms []string) bool {
	return len(platforms) > 0 && !slices.ContainsFunc(platforms, func(platform string) bool {
		return !slices.ContainsFunc(p.Platforms, func(pattern string) bool {
			return purl.Glob(pattern, platform) || purl.Glob(pattern+"/*", platform)
		})
	})
}

// marked is why a version stays whatever the reasons of policies are; "" if
// nothing holds it.
func marked(policy *Policy, v *Version, now time.Time) (reason, because string) {
	switch {
	case v.Pinned != "":
		return "pinned " + v.Pinned, "pinned"
	case v.Held != "":
		return v.Held, "something is under way with it"
	case !v.BackAt.IsZero() && now.Sub(v.BackAt) < policy.Grace:
		return "brought back on " + day(v.BackAt) + ", and so kept for the time of grace", "brought back"
	}
	return "", ""
}

// newestOf tells for each reason of a policy which versions are among the newest,
// by index.
func newestOf(policy *Policy, p *Package, about []bool) [][]bool {
	all := make([][]bool, len(policy.Keep))
	for i := range policy.Keep {
		r := &policy.Keep[i]
		if r.Kind != Newest {
			continue
		}
		all[i] = make([]bool, len(p.Versions))
		counts := map[string]int{}
		var lines []string
		for v := range p.Versions { // from the highest down
			version := &p.Versions[v]
			if !about[v] {
				continue
			}
			if _, ok := r.labelled(version.Labels); r.Labels != nil && !ok {
				continue
			}
			lines = r.linesOf(version, lines[:0])
			for _, line := range lines {
				if counts[line]++; counts[line] <= r.Count {
					all[i][v] = true
				}
			}
		}
	}
	return all
}

// linesOf adds the lines that a version is counted in: a release is no upload of a
// development version, and what has several labels may be of several families.
func (r *Reason) linesOf(v *Version, lines []string) []string {
	switch r.Line {
	case EachMajor:
		return append(lines, numbers(v.Version, 1))
	case EachMinor:
		return append(lines, numbers(v.Version, 2))
	case EachDevelopment:
		if v.Snapshot {
			lines = append(lines, v.Version)
		}
		return lines
	case EachFamily:
		for _, label := range v.Labels {
			if _, ok := r.labelled([]string{label}); ok || r.Labels == nil {
				if f := family(label); !slices.Contains(lines, f) {
					lines = append(lines, f)
				}
			}
		}
		return lines
	}
	return append(lines, "")
}

// family is a label with its last number left open: 1.5.0-dev.* of 1.5.0-dev.118, pr-* of
// pr-17, main-*-amd64 of main-20261128-amd64; a label without a number is its own.
func family(label string) string {
	end := strings.LastIndexAny(label, "0123456789") + 1
	begin := end
	for begin > 0 && label[begin-1] >= '0' && label[begin-1] <= '9' {
		begin--
	}
	if end == 0 {
		return label
	}
	return label[:begin] + "*" + label[end:]
}

// numbers is the beginning of a version up to its nth number; all of it if it has
// not so many.
func numbers(version string, n int) string {
	count, in := 0, false
	for i := range len(version) {
		digit := version[i] >= '0' && version[i] <= '9'
		if in && !digit {
			// The epoch of a Python version is no number of its own.
			if version[i] != '!' {
				count++
			}
			if count == n || version[i] != '.' && version[i] != '!' {
				return version[:i]
			}
		}
		in = digit
	}
	return version
}

// keeps says why the reason keeps a version; "" if it does not.
func (r *Reason) keeps(v *Version, rooms map[int64]time.Time, newest bool, now time.Time) string {
	switch r.Kind {
	case Newest:
		if newest {
			return r.among
		}
	case LastUsed:
		if !v.LastUse().Before(rooms[r.Bytes]) {
			return r.String()
		}
	case Younger:
		if now.Sub(v.At) < r.Within {
			return r.String() + ": of " + day(v.At)
		}
	case Downloaded:
		if !v.UsedAt.IsZero() && now.Sub(v.UsedAt) < r.Within {
			return r.String() + ": on " + day(v.UsedAt)
		}
	case UsedBy:
		if v.Users >= int64(r.Count) {
			return fmt.Sprintf("%s: downloaded by %d", r, v.Users)
		}
	case Labelled:
		if label, ok := r.labelled(v.Labels); ok {
			return "labelled " + label
		}
	case Promoted:
		if v.PromotedBy != 0 {
			return fmt.Sprintf("promoted by promotion %d", v.PromotedBy)
		}
		if r.WithBuild && v.BuildPromotedBy != 0 {
			return fmt.Sprintf("its build was promoted by promotion %d", v.BuildPromotedBy)
		}
	case InABuild:
		if v.UsedIn != "" {
			return "used by build " + v.UsedIn
		}
	case Needed:
		if v.NeededBy != "" {
			return "needed by " + v.NeededBy
		}
	case Symbols:
		if v.SymbolsOf != "" {
			return "has the symbols of " + v.SymbolsOf
		}
	}
	return ""
}

func day(t time.Time) string { return t.UTC().Format("2006-01-02") }

// Title names a policy's verdict for people: the reason, and whose it is.
func (v Verdict) Title() string {
	if v.Policy == "" || v.Fate != Kept {
		return v.Reason
	}
	return strings.Join([]string{v.Reason, "by " + v.Policy}, ", ")
}
