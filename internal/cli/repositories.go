package cli

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"crelvo/internal/api"
	"crelvo/internal/client"
	"crelvo/internal/core/safety"
)

// sameRepository tells whether a repository is as it was asked for, in all that was
// given.
func sameRepository(cmd *cobra.Command, n api.NewRepository, there api.Repository) bool {
	given := cmd.Flags().Changed
	switch {
	case n.Kind != there.Kind || n.Kind == "mirror" && n.Ecosystem != there.Ecosystem,
		given("holds") && n.Holds != there.Holds, given("description") && n.Description != there.Description,
		given("anonymous-read") && n.AnonymousRead != there.AnonymousRead, given("only-builds") &&
			n.OnlyBuilds != there.OnlyBuilds,
		given("only-robots") && n.OnlyRobots != there.OnlyRobots, given("closed") && n.Closed != there.Closed,
		given("largest-file") && n.LargestFile != there.LargestFile,
		given("host") && !slices.Equal(n.Hosts, there.Hosts),
		given("store") && n.Store != there.Store, given("from-store") && n.FromStore != there.FromStore,
		n.Admission != nil && !n.Admission.Same(there.Admission),
		given("refuse") && strings.TrimPrefix(n.Refuse, "none") != there.Refuse,
		given("release-tag") && !slices.Equal(n.ReleaseTags, there.ReleaseTags):
		return false
	case n.Mirror != nil && n.Mirror.Upstreams != nil &&
		(there.Mirror == nil || !slices.Equal(*n.Mirror.Upstreams, there.Mirror.Upstreams)):
		return false
	}
	if n.Chain == nil {
		return true
	}
	if there.Chain == nil {
		return false
	}
	if n.Chain.Members != nil {
		var names, are []string
		for _, m := range *n.Chain.Members {
			names = append(names, m.Name)
		}
		for _, m := range there.Chain.Members {
			are = append(are, m.Name)
		}
		if !slices.Equal(names, are) {
			return false
		}
	}
	return (n.Chain.ReleasesTo == nil || *n.Chain.ReleasesTo == there.Chain.ReleasesTo) &&
		(n.Chain.SnapshotsTo == nil || *n.Chain.SnapshotsTo == there.Chain.SnapshotsTo)
}

func repoCommand(s *session) *cobra.Command {
	return group("repo", "List, make, change and remove repositories", repoList(s), repoShow(s), repoAdd(s), repoEdit(s),
		repoArrivals(s), repoRemove(s))
}

func repoList(s *session) *cobra.Command {
	var removed bool
	cmd := &cobra.Command{Use: "list", Short: "List the repositories that you may read", Args: arguments(cobra.NoArgs),
		Example: "  crelvo repo list\n  crelvo repo list --removed",
		RunE: func(cmd *cobra.Command, _ []string) error {
			if removed {
				return listRemoved(s, cmd)
			}
			return answer(s, cmd, func(ctx context.Context, c *client.Client) ([]api.Repository, error) {
				return c.Repositories(ctx)
			}, func(w io.Writer, all []api.Repository) {
				if c, err := s.client(); err == nil && c.Token == "" {
					fmt.Fprintf(cmd.ErrOrStderr(),
						"You are not signed in to %s, so these are what everybody may read. Sign in with crelvo login, or set "+
							"CRELVO_TOKEN.\n", c.Server)
				}
				if len(all) == 0 {
					fmt.Fprintln(w, "There is no repository that you may read. Make one: crelvo repo add NAME --holds snapshots")
					return
				}
				var rows [][]string
				for _, r := range all {
					row := []string{r.Name, r.Kind, r.Holds, strconv.FormatInt(r.Packages, 10),
						strconv.FormatInt(r.Versions, 10), api.Bytes(r.Bytes), optionalTime(r.LastChange, "never"), r.Description}
					if r.Chain != nil { // it holds nothing itself
						var members []string
						for _, m := range r.Chain.Members {
							members = append(members, m.Name)
						}
						row = []string{r.Name, r.Kind, "-", "-", "-", "-", "-", strings.Join(members, " > ")}
					}
					if r.Mirror != nil {
						for _, c := range r.Mirror.Contacts {
							if c.State == "failing" {
								row[7] = strings.TrimSpace("FAILING: it " + c.Failure + ". " + row[7])
							}
						}
					}
					rows = append(rows, row)
				}
				table(w, []string{"NAME", "KIND", "HOLDS", "PACKAGES", "VERSIONS", "SIZE", "LAST CHANGE", "DESCRIPTION"},
					[]int{3, 4, 5}, rows)
			})
		}}
	cmd.Flags().BoolVar(&removed, "removed", false, "those that were removed and can be brought back")
	return cmd
}

func showRepo(w io.Writer, r api.Repository) {
	pairs := []string{"name", r.Name, "kind", r.Kind}
	if r.Chain == nil {
		pairs = append(pairs, "holds", r.Holds)
	}
	pairs = append(pairs, "description", r.Description, "anonymous reading", yesNo(r.AnonymousRead), "ecosystems",
		orNone(r.Ecosystems, "none yet"))
	if c := r.Chain; c != nil {
		for i, m := range c.Members {
			name := m.Name
			if m.MaySkip {
				name += " (may be skipped)"
			}
			pairs = append(pairs, fmt.Sprintf("member %d", i+1), name)
		}
		pairs = append(pairs, "releases go to", cmp.Or(c.ReleasesTo, "nowhere"), "snapshots go to",
			cmp.Or(c.SnapshotsTo, "nowhere"),
			"members are open", yesNo(c.OpenMembers))
		if c.Hidden {
			pairs = append(pairs, "", "it has members that you may not see")
		}
	} else {
		if r.OnlyBuilds {
			pairs = append(pairs, "takes only", "what comes from a build that began here")
		}
		if r.OnlyRobots {
			pairs = append(pairs, "takes only", "what robots publish")
		}
		if r.Closed {
			pairs = append(pairs, "complete versions", "take no further files but signatures")
		}
		if r.LargestFile > 0 {
			pairs = append(pairs, "largest file", api.Bytes(r.LargestFile))
		}
		if r.FromStore {
			pairs = append(pairs, "large files", "are read from the object store itself, by clients that follow there")
		}
		pairs = append(pairs, "keeps out", keptOut(r))
		pairs = append(pairs, admissionPairs(r.Admission)...)
		pairs = append(pairs, "packages", strconv.FormatInt(r.Packages, 10), "versions", strconv.FormatInt(r.Versions, 10),
			"size", api.Bytes(r.Bytes))
	}
	if len(r.Hosts) > 0 {
		pairs = append(pairs, "hosts", strings.Join(r.Hosts, ", "))
	}
	if r.Store != "" {
		pairs = append(pairs, "store", r.Store)
	}
	if len(r.ReleaseTags) > 0 {
		pairs = append(pairs, "releases are", "tags like "+strings.Join(r.ReleaseTags, ", ")+", and final versions")
	}
	if m := r.Mirror; m != nil {
		pairs = append(pairs, mirrorFields(m)...)
	}
	pairs = append(pairs, "made", timeText(r.CreatedAt))
	if r.Chain == nil {
		pairs = append(pairs, "last change", optionalTime(r.LastChange, "never"))
	}
	fields(w, append(pairs, "address", r.Address, "you may", orNone(r.May, "nothing"))...)
}

func mirrorFields(m *api.Mirror) []string {
	seconds := func(n float64) string { return time.Duration(n * float64(time.Second)).String() }
	var pairs []string
	for i, u := range m.Upstreams {
		what := "upstream"
		if i > 0 {
			what = "falls back on"
		}
		pairs = append(pairs, what, u)
	}
	signIn := "no"
	switch {
	case m.User != "":
		signIn = "as " + m.User
	case m.HasSecret:
		signIn = "with a Bearer token"
	}
	pairs = append(pairs, "signs in", signIn, "proxy", m.Proxy, "may redirect to", strings.Join(m.RedirectTo, ", "),
		"allows", orNone(m.Allow, "everything"), "denies", orNone(m.Deny, "nothing"),
		"documents are fresh for", seconds(m.FreshSeconds), "absence is remembered for", seconds(m.AbsentSeconds),
		"limits", fmt.Sprintf("connect %s, first byte %s, silence %s, %d requests at once, files up to %s",
			seconds(m.ConnectSeconds),
			seconds(m.FirstByteSeconds), seconds(m.SilenceSeconds), m.Parallel, api.Bytes(m.LargestBytes)))
	if m.Prefetch.Follow {
		pairs = append(pairs, "follows", "the changes of its upstream: crelvo mirror show tells how far it is")
	}
	if p := m.Prefetch; len(p.Patterns) > 0 {
		when := "by hand only"
		if p.Schedule != "" {
			when = p.Schedule + " in " + p.Zone
		}
		pairs = append(pairs, "prefetches", strings.Join(p.Patterns, ", "), "when", when, "how many", "the newest "+
			strconv.Itoa(p.Newest))
		if len(p.Platforms) > 0 {
			pairs = append(pairs, "platforms", strings.Join(p.Platforms, ", "))
		}
		var next []string
		for _, at := range p.Next {
			next = append(next, at.Format("Mon 2006-01-02 15:04 MST"))
		}
		pairs = append(pairs, "next times", strings.Join(next, ", "))
	}
	return pairs
}

func repoShow(s *session) *cobra.Command {
	return &cobra.Command{Use: "show NAME", Short: "Show one repository", Args: arguments(cobra.ExactArgs(1)),
		ValidArgsFunction: s.completeRepositories,
		RunE: func(cmd *cobra.Command, args []string) error {
			return answer(s, cmd, func(ctx context.Context, c *client.Client) (api.Repository, error) {
				return c.Repository(ctx, args[0])
			}, showRepo)
		}}
}

func repoAdd(s *session) *cobra.Command {
	var n api.NewRepository
	var mirror mirrorFlags
	var chain chainFlags
	var admits admissionFlags
	cmd := &cobra.Command{Use: "add NAME", Short: "Make a repository: a house, a mirror or a chain",
		Args: arguments(cobra.ExactArgs(1)),
		Example: "  crelvo repo add snapshots --holds snapshots --description 'development builds'\n" +
			"  crelvo repo add shore-maven --kind mirror --upstream https://maven.openshore.example/ --holds releases\n" +
			"  crelvo repo add platform --kind chain --members releases,snapshots,shore-maven --snapshots-to snapshots",
		RunE: func(cmd *cobra.Command, args []string) error {
			n.Name, n.Admission = args[0], admits.change(cmd)
			var err error
			if n.Mirror, err = mirror.change(cmd); err != nil {
				return err
			}
			if n.Chain, err = chain.change(cmd, nil); err != nil {
				return err
			}
			if !cmd.Flags().Changed("kind") {
				switch {
				case n.Mirror != nil:
					n.Kind = "mirror"
				case n.Chain != nil:
					n.Kind = "chain"
				}
			}
			return answer(s, cmd, func(ctx context.Context, c *client.Client) (api.Repository, error) {
				made, err := c.AddRepository(ctx, n)
				if already, err := alreadySo(err, func() (bool, error) {
					var err error
					made, err = c.Repository(ctx, n.Name)
					return sameRepository(cmd, n, made), err
				}); err != nil || !already {
					return made, err
				}
				fmt.Fprintln(cmd.ErrOrStderr(), "It was so already; nothing was changed.")
				return made, nil
			}, showRepo)
		}}
	cmd.Flags().StringVar(&n.Kind, "kind", "house",
		"house, mirror or chain; with --upstream or --members it need not be said")
	cmd.Flags().StringVar(&n.Ecosystem, "ecosystem", "maven", "what a mirror mirrors")
	cmd.Flags().StringVar(&n.Holds, "holds", "both", "which versions it takes: snapshots, releases or both")
	cmd.Flags().StringVar(&n.Description, "description", "", "what it is for")
	cmd.Flags().BoolVar(&n.AnonymousRead, "anonymous-read", false, "let anybody read without signing in")
	cmd.Flags().BoolVar(&n.OnlyBuilds, "only-builds", false, "take only what comes from a build that began here")
	cmd.Flags().BoolVar(&n.OnlyRobots, "only-robots", false, "take only what robots publish")
	cmd.Flags().BoolVar(&n.Closed, "closed", false, "let versions that are complete take no further files but signatures")
	cmd.Flags().Var((*byteSize)(&n.LargestFile), "largest-file",
		"the largest file that may be published, such as 2GiB; 0: what the server says")
	cmd.Flags().StringSliceVar(&n.Hosts, "host", nil, hostFlag)
	cmd.Flags().StringSliceVar(&n.ReleaseTags, "release-tag", nil, releaseTagFlag)
	cmd.Flags().StringVar(&n.Store, "store", "", "the store that what is new in it goes to (default: the default one)")
	must(cmd.RegisterFlagCompletionFunc("store", s.completeStores))
	cmd.Flags().BoolVar(&n.FromStore, "from-store", false, fromStoreFlag)
	cmd.Flags().StringVar(&n.Refuse, "refuse", "", refuseFlag)
	must(cmd.RegisterFlagCompletionFunc("refuse", fixed(safety.SeverityWords()...)))
	admits.add(cmd)
	mirror.add(cmd)
	chain.add(cmd, s)
	must(cmd.RegisterFlagCompletionFunc("kind", fixed("house", "mirror", "chain")))
	must(cmd.RegisterFlagCompletionFunc("holds", fixed("snapshots", "releases", "both")))
	return cmd
}

const fromStoreFlag = "have clients that follow read large files from the object store itself, which they must reach"

const hostFlag = "a name of a host under which it answers by itself, for clients of images that know only a host; may be repeated"

const releaseTagFlag = "a pattern of tags of images, such as r*, that are releases and do not move, beside final versions; may be repeated"

func repoEdit(s *session) *cobra.Command {
	var hosts, releaseTags []string
	var holds, description, store, refuse string
	var anonymous, onlyBuilds, onlyRobots, closed, fromStore bool
	var largest int64
	var mirror mirrorFlags
	var chain chainFlags
	var admits admissionFlags
	cmd := &cobra.Command{Use: "edit NAME", Short: "Change the settings of a repository",
		Args: arguments(cobra.ExactArgs(1)), ValidArgsFunction: s.completeRepositories,
		Example: "  crelvo repo edit platform --members releases,snapshots,shore-maven,shore-central\n" +
			"  crelvo repo edit shore-maven --prefetch 'pkg:maven/org.openshore/*' --schedule '30 5 * * 1-5' --zone Europe/Oslo",
		RunE: func(cmd *cobra.Command, args []string) error {
			change := api.RepositoryChange{Holds: ifGiven(cmd, "holds", &holds),
				Description: ifGiven(cmd, "description", &description), Hosts: ifGiven(cmd, "host", &hosts),
				AnonymousRead: ifGiven(cmd, "anonymous-read", &anonymous), OnlyBuilds: ifGiven(cmd, "only-builds", &onlyBuilds),
				OnlyRobots: ifGiven(cmd, "only-robots", &onlyRobots), Closed: ifGiven(cmd, "closed", &closed),
				LargestFile: ifGiven(cmd, "largest-file", &largest), ReleaseTags: ifGiven(cmd, "release-tag", &releaseTags),
				Store: ifGiven(cmd, "store", &store), FromStore: ifGiven(cmd, "from-store", &fromStore),
				Refuse: ifGiven(cmd, "refuse", &refuse), Admission: admits.change(cmd)}
			var err error
			if change.Mirror, err = mirror.change(cmd); err != nil {
				return err
			}
			c, err := s.client()
			if err != nil {
				return err
			}
			var known *api.Chain
			if cmd.Flags().Changed("members") || cmd.Flags().Changed("may-skip") {
				r, err := c.Repository(cmd.Context(), args[0])
				if err != nil {
					return err
				}
				known = r.Chain
			}
			if change.Chain, err = chain.change(cmd, known); err != nil {
				return err
			}
			if change == (api.RepositoryChange{}) {
				return usageError{fmt.Errorf("nothing to change was given; see %s --help", cmd.CommandPath())}
			}
			return answer(s, cmd, func(ctx context.Context, c *client.Client) (api.Repository, error) {
				return c.EditRepository(ctx, args[0], change)
			}, showRepo)
		}}
	cmd.Flags().StringVar(&holds, "holds", "", "which versions it takes: snapshots, releases or both")
	cmd.Flags().StringVar(&description, "description", "", "what it is for")
	cmd.Flags().BoolVar(&anonymous, "anonymous-read", false, "let anybody read without signing in")
	cmd.Flags().BoolVar(&onlyBuilds, "only-builds", false, "take only what comes from a build that began here")
	cmd.Flags().BoolVar(&onlyRobots, "only-robots", false, "take only what robots publish")
	cmd.Flags().BoolVar(&closed, "closed", false, "let versions that are complete take no further files but signatures")
	cmd.Flags().Var((*byteSize)(&largest), "largest-file",
		"the largest file that may be published, such as 2GiB; 0: what the server says")
	cmd.Flags().StringSliceVar(&hosts, "host", nil, hostFlag+`; "" takes all away`)
	cmd.Flags().StringSliceVar(&releaseTags, "release-tag", nil, releaseTagFlag+`; "" takes all away`)
	cmd.Flags().StringVar(&store, "store", "",
		`the store that what is new in it goes to, "" for the default one; crelvo store move takes along what it holds`)
	must(cmd.RegisterFlagCompletionFunc("store", s.completeStores))
	cmd.Flags().BoolVar(&fromStore, "from-store", false, fromStoreFlag)
	cmd.Flags().StringVar(&refuse, "refuse", "", refuseFlag)
	must(cmd.RegisterFlagCompletionFunc("refuse", fixed(append([]string{"none"}, safety.SeverityWords()...)...)))
	admits.add(cmd)
	mirror.add(cmd)
	chain.add(cmd, s)
	must(cmd.RegisterFlagCompletionFunc("holds", fixed("snapshots", "releases", "both")))
	return cmd
}

var notInNames = regexp.MustCompile(`[^a-z0-9]+`)

// mirrorFlags are the settings of a mirror as flags.
type mirrorFlags struct {
	upstreams, redirectTo, allow, deny, prefetch, platforms []string
	proxy, user, secretFile, schedule, zone                 string
	fresh, absent, connect, firstByte, silence              string
	parallel, newest                                        int
	follow                                                  bool
	largest                                                 int64
}

func (m *mirrorFlags) add(cmd *cobra.Command) {
	f := cmd.Flags()
	f.StringSliceVar(&m.upstreams, "upstream", nil, "where a mirror fetches from; again for those to fall back on")
	f.StringVar(&m.user, "user", "", "who to sign in to the upstream as")
	f.StringVar(&m.secretFile, "secret-file", "",
		"a file with the user's password, or without a user a Bearer token; - is the standard input")
	f.StringVar(&m.proxy, "proxy", "", "a proxy server, such as http://proxy.skerry.example:3128")
	f.StringSliceVar(&m.redirectTo, "redirect-to", nil,
		"hosts that the upstream may redirect to besides its own, such as *.openshore.example")
	f.StringSliceVar(&m.allow, "allow", nil, "patterns of what comes in; with any, nothing else does")
	f.StringSliceVar(&m.deny, "deny", nil, "patterns of what never comes in")
	f.StringVar(&m.fresh, "fresh", "", "how long a document of the upstream counts as current (10m)")
	f.StringVar(&m.absent, "absent", "", "how long to remember that the upstream does not have something (5m)")
	f.StringVar(&m.connect, "connect-limit", "", "how long connecting may take (5s)")
	f.StringVar(&m.firstByte, "first-byte-limit", "", "how long an answer may take to begin (20s)")
	f.StringVar(&m.silence, "silence-limit", "", "how long an upstream may send nothing in the middle (30s)")
	f.IntVar(&m.parallel, "parallel", 0, "requests to the upstream at once (16)")
	f.Var((*byteSize)(&m.largest), "largest", "the largest file to fetch from the upstream, such as 2GiB (8 GiB)")
	f.StringSliceVar(&m.prefetch, "prefetch", nil, "patterns of what is fetched ahead of time")
	f.BoolVar(&m.follow, "follow", false, "follow the changes of the upstream, which is a repository of a Crelvo")
	f.StringVar(&m.schedule, "schedule", "", "when: minute, hour, day, month, day of the week, such as '30 5 * * 1-5'")
	f.StringVar(&m.zone, "zone", "", "the schedule's time zone, such as Europe/Oslo (UTC)")
	f.IntVar(&m.newest, "newest", 0, "how many of the newest versions are fetched ahead (1)")
	f.StringSliceVar(&m.platforms, "platform", nil, "of images: which platforms are fetched ahead, such as linux/amd64 (all)")
}

// change is what the flags that were given say; nil if none was.
func (m *mirrorFlags) change(cmd *cobra.Command) (*api.MirrorChange, error) {
	c := new(api.MirrorChange)
	rule := new(api.PrefetchChange)
	any := false
	given := func(name string) bool {
		changed := cmd.Flags().Changed(name)
		any = any || changed
		return changed
	}
	for name, to := range map[string]struct {
		from *[]string
		into **[]string
	}{"upstream": {&m.upstreams, &c.Upstreams}, "redirect-to": {&m.redirectTo, &c.RedirectTo},
		"allow": {&m.allow, &c.Allow},
		"deny":  {&m.deny, &c.Deny}, "prefetch": {&m.prefetch, &rule.Patterns}, "platform": {&m.platforms, &rule.Platforms}} {
		if given(name) {
			*to.into = to.from
		}
	}
	for name, to := range map[string]struct {
		from *string
		into **string
	}{"proxy": {&m.proxy, &c.Proxy}, "user": {&m.user, &c.User}, "schedule": {&m.schedule, &rule.Schedule},
		"zone": {&m.zone, &rule.Zone}} {
		if given(name) {
			*to.into = to.from
		}
	}
	for name, to := range map[string]struct {
		from string
		into **float64
	}{"fresh": {m.fresh, &c.FreshSeconds}, "absent": {m.absent, &c.AbsentSeconds},
		"connect-limit":    {m.connect, &c.ConnectSeconds},
		"first-byte-limit": {m.firstByte, &c.FirstByteSeconds}, "silence-limit": {m.silence, &c.SilenceSeconds}} {
		if !given(name) {
			continue
		}
		length, err := parseDuration(to.from)
		if err != nil {
			return nil, usageError{fmt.Errorf("--%s: %w", name, err)}
		}
		seconds := length.Seconds()
		*to.into = &seconds
	}
	if given("parallel") {
		c.Parallel = &m.parallel
	}
	if given("largest") {
		c.LargestBytes = &m.largest
	}
	if given("follow") {
		rule.Follow = &m.follow
	}
	if given("newest") {
		rule.Newest = &m.newest
	}
	if *rule != (api.PrefetchChange{}) {
		c.Prefetch = rule
	}
	if given("secret-file") {
		secret, err := readSecret(cmd, m.secretFile)
		if err != nil {
			return nil, err
		}
		c.Secret = &secret
	}
	if !any {
		return nil, nil
	}
	return c, nil
}

// chainFlags are the settings of a chain as flags.
type chainFlags struct {
	members, maySkip        []string
	releasesTo, snapshotsTo string
	open                    bool
}

func (m *chainFlags) add(cmd *cobra.Command, s *session) {
	f := cmd.Flags()
	f.StringSliceVar(&m.members, "members", nil, "the repositories behind a chain, in their order")
	f.StringSliceVar(&m.maySkip, "may-skip", nil, "which members may be left out of an answer when they fail")
	f.StringVar(&m.releasesTo, "releases-to", "", "where releases go that are published to a chain")
	f.StringVar(&m.snapshotsTo, "snapshots-to", "", "where snapshots go that are published to a chain")
	f.BoolVar(&m.open, "open-members", false, "whoever may read a chain may read through it what its members add")
	for _, name := range []string{"members", "may-skip", "releases-to", "snapshots-to"} {
		must(cmd.RegisterFlagCompletionFunc(name, s.completeRepositories))
	}
}

// change is what the flags that were given say; nil if none was. known are the
// members there are.
func (m *chainFlags) change(cmd *cobra.Command, known *api.Chain) (*api.ChainChange, error) {
	c := new(api.ChainChange)
	f := cmd.Flags()
	if f.Changed("members") || f.Changed("may-skip") {
		members := []api.Member{}
		if f.Changed("members") {
			for _, name := range m.members {
				members = append(members, api.Member{Name: strings.TrimSpace(name)})
			}
		} else if known != nil {
			members = append(members, known.Members...)
		}
		for i := range members {
			if f.Changed("may-skip") {
				members[i].MaySkip = false
			} else if known != nil {
				for _, was := range known.Members {
					members[i].MaySkip = members[i].MaySkip || was.Name == members[i].Name && was.MaySkip
				}
			}
		}
		for _, name := range m.maySkip {
			found := false
			for i := range members {
				if members[i].Name == name {
					members[i].MaySkip, found = true, true
				}
			}
			if !found {
				return nil, usageError{fmt.Errorf("--may-skip: %s is no member", name)}
			}
		}
		c.Members = &members
	}
	if f.Changed("releases-to") {
		c.ReleasesTo = &m.releasesTo
	}
	if f.Changed("snapshots-to") {
		c.SnapshotsTo = &m.snapshotsTo
	}
	if f.Changed("open-members") {
		c.OpenMembers = &m.open
	}
	if *c == (api.ChainChange{}) {
		return nil, nil
	}
	return c, nil
}
