package retention

import (
	"time"

	"crelvo/internal/core/purl"
	"crelvo/internal/core/query"
)

// Policy says what stays of some repositories, and why; the rest is swept.
type Policy struct {
	Name         string
	Description  string
	Repositories []string       // names, with * for any run of characters
	Packages     []purl.Pattern // it is about versions that one fits; none is all
	// Platforms, with * for any run of characters: it is about what is for these alone, and
	// takes it out of what it is part of; none is all, whatever it is for.
	Platforms []string
	Where     string      // a query, and about those that fit it; "" is all
	Query     query.Query // Where, read
	Keep      []Reason
	// Grace is how long a swept version can be brought back.
	Grace time.Duration
	// Schedule is in the cron form of five fields, in the time zone Zone; "" is
	// by hand only.
	Schedule, Zone string
	// MostVersions and MostShare (in percent of a repository's versions) are how
	// much one run takes without asking; 0 is any number.
	MostVersions, MostShare int
}

// DefaultGrace is the grace of a policy that does not state one.
const DefaultGrace = 14 * 24 * time.Hour

// Is tells whether a reason of that kind is among the policy's.
func (p *Policy) Is(kind Kind) bool {
	for _, r := range p.Keep {
		if r.Kind == kind {
			return true
		}
	}
	return false
}

// Version is what is known of a version, for a verdict on it.
type Version struct {
	ID              int64
	Version, Upload string
	Snapshot        bool
	At              time.Time // when it became visible
	UploadedAt      time.Time
	UploadCount     int
	BuildID         int64 // 0 for none
	Bytes           int64
	Labels          []string
	// UsedAt is when it was downloaded last; zero for never. Users is by how many
	// different users and robots.
	UsedAt           time.Time
	Downloads, Users int64
	// Fits tells for each of the policies, in their order, whether its query fits.
	Fits []bool
	// PromotedBy and BuildPromotedBy are promotions that took it, or something
	// else of its build, further; 0 for none.
	PromotedBy, BuildPromotedBy int64
	// Pinned is why people want it to stay, whatever the policies say; "" if nobody
	// does. Held is the same of what Crelvo itself is doing with it.
	Pinned, Held string
	// BackAt is when it was brought back from a sweep; zero if it was not.
	BackAt time.Time
	// UsedIn names a build that used it, and that is kept; NeededBy what is kept
	// and needs it.
	UsedIn, NeededBy string
	// SymbolsOf names what is kept, and has a program in it that debuggers find the symbols of here alone.
	SymbolsOf string
	// Parts are versions of the package that it is made of, and About the one that it is
	// about, where an ecosystem has such: they stay as long as that does.
	Parts []string
	About string
	// Platforms are those that it is for; none if that is not known.
	Platforms []string
}

// Package is a package of a repository with its versions.
type Package struct {
	Repository string
	Key        purl.PURL // without a version
	Versions   []Version
	// Rooms tells for each size that a LastUsed reason names since when a version of
	// the repository must have been used to be among those that it keeps.
	Rooms map[int64]time.Time
}

// Fate is what becomes of a version.
type Fate uint8

// The fates.
const (
	Kept    Fate = iota
	Swept        // no reason keeps it
	Outside      // the policy is not about it
)

// String is the fate in a word.
func (f Fate) String() string { return [...]string{"kept", "swept", "outside"}[f] }

// Verdict is what becomes of a version, and why.
type Verdict struct {
	Fate Fate
	// Policy is the one whose reason decides; "" where none has a part in it.
	Policy string
	Reason string
	// Because is the reason without what is particular to the version.
	Because string
}

// LastUse is when a version was downloaded last or, if it never was, published.
func (v *Version) LastUse() time.Time {
	if v.UsedAt.IsZero() {
		return v.At
	}
	return v.UsedAt
}
