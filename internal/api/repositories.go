package api

import (
	"time"
)

// Repository is a repository as the caller sees it.
type Repository struct {
	Name          string     `json:"name"`
	Kind          string     `json:"kind" enum:"house,mirror,chain"`
	Holds         string     `json:"holds" enum:"snapshots,releases,both"`
	Ecosystem     string     `json:"ecosystem,omitempty" doc:"of a mirror"`
	Mirror        *Mirror    `json:"mirror,omitempty" doc:"of a mirror"`
	Chain         *Chain     `json:"chain,omitempty" doc:"of a chain"`
	Description   string     `json:"description"`
	AnonymousRead bool       `json:"anonymousRead" doc:"anybody may read without signing in"`
	OnlyBuilds    bool       `json:"onlyBuilds" doc:"what is published must come from a build that began here"`
	OnlyRobots    bool       `json:"onlyRobots" doc:"only robots publish"`
	Closed        bool       `json:"closed" doc:"versions that are complete take no further files but signatures"`
	LargestFile   int64      `json:"largestFile,omitempty" doc:"the largest file that may be published, in bytes; left out: what the server says"`
	Hosts         []string   `json:"hosts,omitempty" doc:"names of hosts under which it answers by itself"`
	ReleaseTags   []string   `json:"releaseTags,omitempty" doc:"patterns of tags of images that are releases, beside those that are final versions"`
	Store         string     `json:"store,omitempty" doc:"where what is new in it is kept, for those who look after everything"`
	FromStore     bool       `json:"fromStore" doc:"large files are read from the object store itself by clients that follow there"`
	Refuse        string     `json:"refuse,omitempty" enum:"low,medium,high,critical" doc:"how bad an advisory must be to keep out what it affects; left out: only what is malicious is kept out"`
	Admission     Admission  `json:"admission"`
	Address       string     `json:"address"`
	Ecosystems    []string   `json:"ecosystems" doc:"what it holds anything of"`
	Packages      int64      `json:"packages"`
	Versions      int64      `json:"versions"`
	Bytes         int64      `json:"bytes"`
	AsOf          *time.Time `json:"asOf,omitempty" doc:"the moment as of which it is read, if it is not now"`
	CreatedAt     time.Time  `json:"createdAt"`
	LastChange    *time.Time `json:"lastChange,omitempty" doc:"when its contents changed last"`
	May           []string   `json:"may" doc:"what the caller may do there"`
}

// NewRepository is a repository to be made.
type NewRepository struct {
	Name          string           `json:"name" minLength:"2" maxLength:"63" example:"snapshots"`
	Kind          string           `json:"kind,omitempty" enum:"house,mirror,chain" default:"house"`
	Holds         string           `json:"holds,omitempty" enum:"snapshots,releases,both" default:"both"`
	Ecosystem     string           `json:"ecosystem,omitempty" doc:"what a mirror mirrors" example:"maven"`
	Mirror        *MirrorChange    `json:"mirror,omitempty"`
	Chain         *ChainChange     `json:"chain,omitempty"`
	Description   string           `json:"description,omitempty" maxLength:"500"`
	AnonymousRead bool             `json:"anonymousRead,omitempty"`
	OnlyBuilds    bool             `json:"onlyBuilds,omitempty" doc:"what is published must come from a build that began here"`
	OnlyRobots    bool             `json:"onlyRobots,omitempty" doc:"only robots publish"`
	Closed        bool             `json:"closed,omitempty" doc:"versions that are complete take no further files but signatures"`
	LargestFile   int64            `json:"largestFile,omitempty" minimum:"0" doc:"the largest file that may be published, in bytes; 0: what the server says"`
	Hosts         []string         `json:"hosts,omitempty" doc:"names of hosts under which it answers by itself, for clients that know only a host" example:"images.skerry.example"`
	ReleaseTags   []string         `json:"releaseTags,omitempty" doc:"patterns of tags of images that are releases, beside those that are final versions" example:"r*"`
	Store         string           `json:"store,omitempty" maxLength:"63" doc:"where what is new in it is kept; left out: in the default store"`
	FromStore     bool             `json:"fromStore,omitempty" doc:"large files are read from the object store itself, which clients must reach, by those that follow there"`
	Refuse        string           `json:"refuse,omitempty" enum:"low,medium,high,critical" doc:"how bad an advisory must be to keep out what it affects; left out: only what is malicious is kept out"`
	Admission     *AdmissionChange `json:"admission,omitempty"`
}

// RepositoryChange is what is to be different; what is left out stays.
type RepositoryChange struct {
	Holds         *string          `json:"holds,omitempty" enum:"snapshots,releases,both"`
	Description   *string          `json:"description,omitempty" maxLength:"500"`
	AnonymousRead *bool            `json:"anonymousRead,omitempty"`
	OnlyBuilds    *bool            `json:"onlyBuilds,omitempty"`
	OnlyRobots    *bool            `json:"onlyRobots,omitempty"`
	Closed        *bool            `json:"closed,omitempty"`
	LargestFile   *int64           `json:"largestFile,omitempty" minimum:"0"`
	Hosts         *[]string        `json:"hosts,omitempty"`
	ReleaseTags   *[]string        `json:"releaseTags,omitempty"`
	Store         *string          `json:"store,omitempty" maxLength:"63" doc:"where what is new in it is kept; empty: in the default store. What it holds already stays where it is"`
	FromStore     *bool            `json:"fromStore,omitempty"`
	Refuse        *string          `json:"refuse,omitempty" enum:"none,low,medium,high,critical" doc:"how bad an advisory must be to keep out what it affects; none: only what is malicious is kept out"`
	Admission     *AdmissionChange `json:"admission,omitempty"`
	Mirror        *MirrorChange    `json:"mirror,omitempty"`
	Chain         *ChainChange     `json:"chain,omitempty"`
}

// RemovedRepository is a repository that is out of use, and can be brought back.
type RemovedRepository struct {
	Name  string    `json:"name"`
	Kind  string    `json:"kind"`
	By    string    `json:"by"`
	At    time.Time `json:"at"`
	Until time.Time `json:"until" doc:"then its bytes are freed"`
}

// Mirror is how a mirror fetches, and how its upstreams were last.
type Mirror struct {
	Upstreams        []string  `json:"upstreams" doc:"addresses, asked in this order: the next one if those before fail"`
	FreshSeconds     float64   `json:"freshSeconds" doc:"how long a document is taken as current"`
	AbsentSeconds    float64   `json:"absentSeconds" doc:"how long it is remembered that something is not there"`
	ConnectSeconds   float64   `json:"connectSeconds"`
	FirstByteSeconds float64   `json:"firstByteSeconds"`
	SilenceSeconds   float64   `json:"silenceSeconds" doc:"how long an upstream may send nothing in the middle"`
	Parallel         int       `json:"parallel" doc:"requests at once"`
	LargestBytes     int64     `json:"largestBytes"`
	Proxy            string    `json:"proxy" doc:"without its password"`
	RedirectTo       []string  `json:"redirectTo" doc:"hosts that an upstream may redirect to besides its own"`
	Allow            []string  `json:"allow" doc:"patterns; with any, only what they fit comes in"`
	Deny             []string  `json:"deny" doc:"patterns; what they fit never comes in"`
	User             string    `json:"user"`
	HasSecret        bool      `json:"hasSecret"`
	Prefetch         Prefetch  `json:"prefetch"`
	Contacts         []Contact `json:"contacts" doc:"in the order of the upstreams"`
}

// Prefetch is a rule that fills a mirror ahead of time.
type Prefetch struct {
	Patterns []string `json:"patterns"`
	Schedule string   `json:"schedule" doc:"cron form of five fields; empty: by hand only"`
	Zone     string   `json:"zone" doc:"time zone" example:"Europe/Oslo"`
	Newest   int      `json:"newest" doc:"how many of the newest versions"`
	// Platforms are of images.
	Platforms []string    `json:"platforms,omitempty" doc:"of images: which platforms; none is all" example:"linux/amd64"`
	Next      []time.Time `json:"next" doc:"the next five times"`
	Follow    bool        `json:"follow" doc:"it follows the changes of its upstream, which is a Crelvo"`
}

// MirrorChange is how a mirror is to be; what is left out stays, or takes the
// default.
type MirrorChange struct {
	Upstreams        *[]string       `json:"upstreams,omitempty"`
	FreshSeconds     *float64        `json:"freshSeconds,omitempty" minimum:"0.1" maximum:"31536000"`
	AbsentSeconds    *float64        `json:"absentSeconds,omitempty" minimum:"0.1" maximum:"31536000"`
	ConnectSeconds   *float64        `json:"connectSeconds,omitempty" minimum:"0.1" maximum:"3600"`
	FirstByteSeconds *float64        `json:"firstByteSeconds,omitempty" minimum:"0.1" maximum:"3600"`
	SilenceSeconds   *float64        `json:"silenceSeconds,omitempty" minimum:"0.1" maximum:"3600"`
	Parallel         *int            `json:"parallel,omitempty" minimum:"1" maximum:"1000"`
	LargestBytes     *int64          `json:"largestBytes,omitempty" minimum:"1"`
	Proxy            *string         `json:"proxy,omitempty" maxLength:"1000"`
	RedirectTo       *[]string       `json:"redirectTo,omitempty"`
	Allow            *[]string       `json:"allow,omitempty"`
	Deny             *[]string       `json:"deny,omitempty"`
	User             *string         `json:"user,omitempty" maxLength:"500"`
	Secret           *string         `json:"secret,omitempty" maxLength:"10000" doc:"the user's password, or without a user a Bearer token"`
	Prefetch         *PrefetchChange `json:"prefetch,omitempty"`
}

// PrefetchChange is how a prefetch rule is to be.
type PrefetchChange struct {
	Patterns  *[]string `json:"patterns,omitempty"`
	Schedule  *string   `json:"schedule,omitempty" maxLength:"200"`
	Zone      *string   `json:"zone,omitempty" maxLength:"100"`
	Newest    *int      `json:"newest,omitempty" minimum:"1" maximum:"100"`
	Platforms *[]string `json:"platforms,omitempty" doc:"of images: which platforms, with * for any"`
	Follow    *bool     `json:"follow,omitempty" doc:"follow the changes of the upstream, which is a Crelvo"`
}

// Chain is what stands behind a chain.
type Chain struct {
	Members     []Member `json:"members" doc:"in their order"`
	ReleasesTo  string   `json:"releasesTo" doc:"where releases go that are published to the chain; empty: nowhere"`
	SnapshotsTo string   `json:"snapshotsTo"`
	OpenMembers bool     `json:"openMembers" doc:"whoever may read the chain may read through it what its members add; else only what they may read there"`
	Hidden      bool     `json:"hidden,omitempty" doc:"it has members that the caller may not see"`
}

// Member is a place in a chain.
type Member struct {
	Name    string `json:"name"`
	MaySkip bool   `json:"maySkip,omitempty" doc:"when it fails, the chain answers without it"`
}

// ChainChange is how a chain is to be; what is left out stays.
type ChainChange struct {
	Members     *[]Member `json:"members,omitempty"`
	ReleasesTo  *string   `json:"releasesTo,omitempty" maxLength:"63"`
	SnapshotsTo *string   `json:"snapshotsTo,omitempty" maxLength:"63"`
	OpenMembers *bool     `json:"openMembers,omitempty"`
}

// Claim is a pattern of names that are ours, or a lift.
type Claim struct {
	Pattern string    `json:"pattern"`
	Lifted  bool      `json:"lifted" doc:"the names are not ours, although they were published here"`
	Reason  string    `json:"reason"`
	By      string    `json:"by"`
	At      time.Time `json:"at"`
}

// NewClaim claims names, or lifts a claim.
type NewClaim struct {
	Pattern string `json:"pattern" maxLength:"300"`
	Reason  string `json:"reason" maxLength:"500"`
}

// ClaimedNames are the names that are claimed since they were published.
type ClaimedNames struct {
	Names []ClaimedName `json:"names" doc:"the first 200"`
	Total int           `json:"total"`
}

// ClaimedName is a name that was published.
type ClaimedName struct {
	PURL  string    `json:"purl"`
	In    []string  `json:"in" doc:"the house repositories"`
	Since time.Time `json:"since"`
}
