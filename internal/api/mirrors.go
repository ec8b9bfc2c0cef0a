package api

import (
	"time"
)

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
	Allowed          *Allowance `json:"allowed,omitempty" doc:"how much more it lets the mirror ask, if it says so"`
}

// Allowance is how much more an upstream lets a mirror ask, by its own word.
type Allowance struct {
	Left    int64      `json:"left"`
	Most    int64      `json:"most,omitempty"`
	Seconds int64      `json:"seconds,omitempty" doc:"within how long"`
	Again   *time.Time `json:"again,omitempty" doc:"when there is more"`
	At      time.Time  `json:"at" doc:"when it said so"`
	Scarce  bool       `json:"scarce" doc:"less than a tenth is left, of what still counts"`
}

// MirrorState is how a mirror is.
type MirrorState struct {
	Name       string     `json:"name"`
	Contacts   []Contact  `json:"contacts"`
	Hours      []Hour     `json:"hours" doc:"the last hours, the oldest first; hours with nothing are left out"`
	Total      Hour       `json:"total" doc:"over those hours"`
	Stale      []StaleDoc `json:"stale" doc:"documents that could not be refreshed, the last 50"`
	StaleTotal int        `json:"staleTotal"`
	Following  *Following `json:"following,omitempty" doc:"of one that follows its upstream"`
}

// Following is how far a mirror is with the changes of its upstream.
type Following struct {
	Number  int64      `json:"number" doc:"of the last change that was taken over"`
	Behind  int        `json:"behind" doc:"packages that changed since"`
	Oldest  *time.Time `json:"oldest,omitempty" doc:"when the first of them did"`
	DoneAt  *time.Time `json:"doneAt,omitempty" doc:"when it was in step last"`
	AskedAt *time.Time `json:"askedAt,omitempty"`
	Failure string     `json:"failure,omitempty"`
}

// Changes are what changed in a repository, for whoever follows it.
type Changes struct {
	Complete bool            `json:"complete" doc:"all that changed after the number is told; else look at everything once, and go on"`
	Number   int64           `json:"number" doc:"after which to go on"`
	Left     int             `json:"left" doc:"packages that changed"`
	Changes  []PackageChange `json:"changes"`
}

// PackageChange is that a package changed.
type PackageChange struct {
	Number int64     `json:"number"`
	PURL   string    `json:"purl"`
	At     time.Time `json:"at"`
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
