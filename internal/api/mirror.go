package api

import "time"

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
	Patterns []string    `json:"patterns"`
	Schedule string      `json:"schedule" doc:"cron form of five fields; empty: by hand only"`
	Zone     string      `json:"zone" doc:"time zone" example:"Europe/Oslo"`
	Newest   int         `json:"newest" doc:"how many of the newest versions"`
	Next     []time.Time `json:"next" doc:"the next five times"`
}

// Contact is how an upstream was last.
type Contact struct {
	URL              string     `json:"url"`
	Private          bool       `json:"private" doc:"at an address of a private network"`
	State            string     `json:"state" enum:"unknown,ok,failing"`
	ContactAt        *time.Time `json:"contactAt,omitempty" doc:"of its last answer"`
	FirstByteSeconds float64    `json:"firstByteSeconds" doc:"of its last answer"`
	FailedAt         *time.Time `json:"failedAt,omitempty"`
	Failure          string     `json:"failure,omitempty" doc:"the last one, in words"`
	FailingSince     *time.Time `json:"failingSince,omitempty"`
	RetryAt          *time.Time `json:"retryAt,omitempty" doc:"it is left alone until then"`
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
	Patterns *[]string `json:"patterns,omitempty"`
	Schedule *string   `json:"schedule,omitempty" maxLength:"200"`
	Zone     *string   `json:"zone,omitempty" maxLength:"100"`
	Newest   *int      `json:"newest,omitempty" minimum:"1" maximum:"100"`
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

// MirrorState is how a mirror is.
type MirrorState struct {
	Name       string     `json:"name"`
	Contacts   []Contact  `json:"contacts"`
	Hours      []Hour     `json:"hours" doc:"the last hours, the oldest first; hours with nothing are left out"`
	Total      Hour       `json:"total" doc:"over those hours"`
	Stale      []StaleDoc `json:"stale" doc:"documents that could not be refreshed, the last 50"`
	StaleTotal int        `json:"staleTotal"`
}

// Hour is what a mirror did in an hour.
type Hour struct {
	Hour             time.Time `json:"hour"`
	Hits             int64     `json:"hits" doc:"files that were kept already"`
	Misses           int64     `json:"misses" doc:"files that had to be asked for"`
	Stale            int64     `json:"stale" doc:"answers made from a document that could not be refreshed"`
	Failures         int64     `json:"failures"`
	Requests         int64     `json:"requests" doc:"to the upstreams"`
	BytesServed      int64     `json:"bytesServed"`
	BytesFetched     int64     `json:"bytesFetched"`
	FirstByteSeconds float64   `json:"firstByteSeconds" doc:"of the upstreams, on average"`
}

// StaleDoc is a document that could not be refreshed.
type StaleDoc struct {
	Path      string    `json:"path"`
	CheckedAt time.Time `json:"checkedAt" doc:"when it was current"`
	FailedAt  time.Time `json:"failedAt"`
	Failure   string    `json:"failure"`
}

// Check tries an upstream before it is saved.
type Check struct {
	Ecosystem string        `json:"ecosystem,omitempty"`
	Mirror    *MirrorChange `json:"mirror,omitempty"`
	Like      string        `json:"like,omitempty" maxLength:"63" doc:"a mirror whose settings, or secret, are used where none are given"`
	PURL      string        `json:"purl,omitempty" maxLength:"1024" doc:"a package or version that should be there"`
}

// Checked is what came of trying an upstream.
type Checked struct {
	URL     string  `json:"url"`
	Private bool    `json:"private"`
	OK      bool    `json:"ok"`
	Said    string  `json:"said"`
	Seconds float64 `json:"seconds"`
}

// Try asks whether patterns let something in.
type Try struct {
	PURL  string    `json:"purl" maxLength:"1024"`
	Allow *[]string `json:"allow,omitempty" doc:"tried instead of what is saved"`
	Deny  *[]string `json:"deny,omitempty"`
}

// Tried is the answer, with its reason.
type Tried struct {
	PURL    string `json:"purl"`
	Allowed bool   `json:"allowed"`
	Why     string `json:"why"`
}

// Forget names what a mirror is to forget.
type Forget struct {
	PURL string `json:"purl" maxLength:"1024"`
}

// Forgotten is what a mirror forgot.
type Forgotten struct {
	PURL      string `json:"purl"`
	Copies    int64  `json:"copies" doc:"versions that were kept"`
	Documents int64  `json:"documents" doc:"lists and absences that were remembered"`
}

// PrefetchRun is a run of a prefetch rule.
type PrefetchRun struct {
	ID      int64          `json:"id"`
	BegunBy string         `json:"begunBy"`
	BegunAt time.Time      `json:"begunAt"`
	EndedAt *time.Time     `json:"endedAt,omitempty"`
	State   string         `json:"state" enum:"running,done,failed"`
	Failure string         `json:"failure,omitempty"`
	Planned int            `json:"planned" doc:"packages that the patterns fit"`
	Came    int            `json:"came" doc:"versions that were fetched"`
	There   int            `json:"there" doc:"versions that were there already"`
	Failed  int            `json:"failed"`
	Bytes   int64          `json:"bytes"`
	Report  []PrefetchLine `json:"report"`
}

// PrefetchLine is what became of a version.
type PrefetchLine struct {
	PURL    string `json:"purl"`
	Outcome string `json:"outcome" enum:"came,there,failed"`
	Files   int    `json:"files,omitempty"`
	Bytes   int64  `json:"bytes,omitempty"`
	Why     string `json:"why,omitempty"`
}

// NextTimes are the next times of a schedule.
type NextTimes struct {
	Next []time.Time `json:"next"`
}

// Explanation tells which repository answers for a package, and why the others
// do not.
type Explanation struct {
	PURL       string `json:"purl"`
	Repository string `json:"repository"`
	Ours       string `json:"ours,omitempty" doc:"why the name is ours, so that no mirror answers for it"`
	Outcome    string `json:"outcome" enum:"answered,absent,failed"`
	Sentence   string `json:"sentence" doc:"the outcome in words"`
	Steps      []Step `json:"steps" doc:"every member, in order"`
}

// Step is what a member said.
type Step struct {
	Repository string   `json:"repository"`
	Kind       string   `json:"kind" enum:"house,mirror"`
	Via        []string `json:"via" doc:"the chains between"`
	Said       string   `json:"said" enum:"has it,stale,not here,failed,denied by pattern,claimed elsewhere,other ecosystem,other maturity,not asked"`
	Why        string   `json:"why"`
	Answers    bool     `json:"answers"`
	Skipped    bool     `json:"skipped,omitempty" doc:"it failed, and the chain says that it may"`
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
