package catalog

import "time"

// MirrorSettings say where a mirror fetches from, and how.
type MirrorSettings struct {
	// Upstreams are asked in order: the next one only if those before it fail.
	Upstreams []Upstream `json:"upstreams"`
	// Freshness is how long a document of the upstream is taken as current.
	Freshness time.Duration `json:"freshness"`
	// AbsentFor is how long "not there" is remembered.
	AbsentFor time.Duration `json:"absentFor"`
	// The time limits: to connect, until the first byte of an answer, and
	// between two pieces of it.
	Connect   time.Duration `json:"connect"`
	FirstByte time.Duration `json:"firstByte"`
	Silence   time.Duration `json:"silence"`
	// Parallel is how many requests to the upstream may run at once.
	Parallel int `json:"parallel"`
	// Largest is the size in bytes up to which a file is taken.
	Largest int64 `json:"largest"`
	// Proxy is the address of a proxy server; "" is none. Like User and Secret
	// it is kept encrypted, since it may have a password.
	Proxy string `json:"-"`
	// RedirectTo are the hosts, with * for any run of characters, to which the
	// upstream may redirect besides its own.
	RedirectTo []string `json:"redirectTo,omitempty"`
	// Allow and Deny are patterns of package URLs. What Deny fits is never
	// fetched or served; if there is any Allow, only what it fits is.
	Allow []string `json:"allow,omitempty"`
	Deny  []string `json:"deny,omitempty"`
	// User and Secret sign in to the upstream: by HTTP Basic, or without a user
	// by a Bearer token. Kept encrypted, apart from the other settings.
	User   string `json:"-"`
	Secret string `json:"-"`
	// Prefetch fills the mirror ahead of time.
	Prefetch Prefetch `json:"prefetch"`
}

// Upstream is the address of a place to fetch from.
type Upstream struct {
	URL string `json:"url"` // with a slash at the end
	// Private: it was at an address of a private network when it was set.
	Private bool `json:"private,omitempty"`
}

// Prefetch is a rule that fills a mirror ahead of time.
type Prefetch struct {
	// Patterns choose packages; without any there is no rule.
	Patterns []string `json:"patterns,omitempty"`
	// Schedule is in the cron form of five fields, in the time zone Zone; ""
	// is by hand only.
	Schedule string `json:"schedule,omitempty"`
	Zone     string `json:"zone,omitempty"`
	// Newest is how many of the newest versions are wanted.
	Newest int `json:"newest,omitempty"`
	// Platforms are those of which images are wanted, with * for any; none is all.
	Platforms []string `json:"platforms,omitempty"`
	// Follow: the first upstream is a repository of a Crelvo, whose changes are asked for again and again, so that
	// what the patterns choose, and what the mirror knows, is up to date within moments.
	Follow bool `json:"follow,omitempty"`
}

// ChainSettings say what stands behind a chain.
type ChainSettings struct {
	Members []Member
	// ReleasesTo and SnapshotsTo are the house repositories that take what is
	// published to the chain; 0 is none.
	ReleasesTo, SnapshotsTo int64
	// OpenMembers: whoever may read the chain may read through it what its
	// members add; else only what they may read there.
	OpenMembers bool
}

// Member is a place in a chain.
type Member struct {
	RepositoryID int64
	// MaySkip: when it fails, the chain answers without it.
	MaySkip bool
}

// Listing is what an upstream says in a document: which versions of a package
// it has, which plugins of a namespace, or where its other documents are.
type Listing struct {
	Versions []ListedVersion   `json:"versions,omitempty"`
	Plugins  []ListedPlugin    `json:"plugins,omitempty"`
	Labels   map[string]string `json:"labels,omitempty"` // movable names for versions
	Places   map[string]string `json:"places,omitempty"` // addresses, by the names of what is there
}

// ListedVersion is a version, or an upload of a snapshot, that an upstream
// says it has.
type ListedVersion struct {
	Version     string       `json:"version"`
	Upload      string       `json:"upload,omitempty"`
	UploadedAt  time.Time    `json:"uploadedAt,omitzero"`
	UploadCount int          `json:"uploadCount,omitempty"`
	Files       []ListedFile `json:"files,omitempty"` // where the document says
	Details     *Details     `json:"details,omitempty"`
	Withdrawn   *Withdrawal  `json:"withdrawn,omitempty"`
	SeenAt      time.Time    `json:"seenAt"`          // when it was first listed
	GoneAt      time.Time    `json:"goneAt,omitzero"` // when it was not listed any more
}

// Then tells whether the version was listed at a moment; 0 is now.
func (v ListedVersion) Then(at Moment) bool {
	if at == 0 {
		return v.GoneAt.IsZero()
	}
	return !v.SeenAt.After(at.Time()) && (v.GoneAt.IsZero() || v.GoneAt.After(at.Time()))
}

// ListedFile is a file that an upstream says it has.
type ListedFile struct {
	Name       string `json:"name"`
	Classifier string `json:"classifier,omitempty"`
	Extension  string `json:"extension,omitempty"`
	// Address is where it is, where the document says: relative to the
	// upstream's address, or whole.
	Address string            `json:"address,omitempty"`
	Size    int64             `json:"size,omitempty"`
	Digests map[string]string `json:"digests,omitempty"` // in hexadecimal, by algorithm
}

// ListedPlugin is a plugin of a build tool that an upstream says it has.
type ListedPlugin struct {
	Name   string `json:"name"`
	Prefix string `json:"prefix"`
	Title  string `json:"title,omitempty"`
}
