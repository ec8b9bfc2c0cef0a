package cli

import (
	"context"
	"fmt"
	"io"
	"os"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"crelvo/internal/api"
	"crelvo/internal/client"
	"crelvo/internal/core/purl"
)

func readSecret(cmd *cobra.Command, path string) (string, error) {
	var raw []byte
	var err error
	if path == "-" {
		raw, err = io.ReadAll(io.LimitReader(cmd.InOrStdin(), 64<<10))
	} else {
		raw, err = os.ReadFile(path)
	}
	return strings.TrimRight(string(raw), "\r\n"), err
}

func mirrorCommand(s *session) *cobra.Command {
	return group("mirror", "See how mirrors are, try them, and look after their copies",
		mirrorShow(s), mirrorCheck(s), mirrorTry(s), mirrorForget(s), mirrorPrefetch(s), mirrorRuns(s))
}

func mirrorShow(s *session) *cobra.Command {
	var hours int
	cmd := &cobra.Command{Use: "show NAME", Short: "Show how a mirror and its upstreams are",
		Args: arguments(cobra.ExactArgs(1)), ValidArgsFunction: s.completeRepositories,
		RunE: func(cmd *cobra.Command, args []string) error {
			return answer(s, cmd, func(ctx context.Context, c *client.Client) (api.MirrorState, error) {
				return c.Mirror(ctx, args[0], hours)
			}, func(w io.Writer, state api.MirrorState) { showMirror(w, state, hours) })
		}}
	cmd.Flags().IntVar(&hours, "hours", 24, "count over so many hours")
	return cmd
}

// allowance is how much more an upstream lets a mirror ask, in words.
func allowance(a api.Allowance) string {
	text := counted(a.Left, "more time")
	if a.Most > 0 {
		text += fmt.Sprintf(", of %d", a.Most)
	}
	if a.Seconds > 0 {
		text += " within " + strings.TrimSuffix(strings.TrimSuffix((time.Duration(a.Seconds)*time.Second).String(), "0s"), "0m")
	}
	if a.Again != nil {
		text += ", and more at " + timeText(*a.Again)
	}
	return text
}

func showMirror(w io.Writer, state api.MirrorState, hours int) {
	var rows [][]string
	for _, c := range state.Contacts {
		how := map[string]string{"ok": "answers", "failing": "FAILING", "unknown": "not asked yet"}[c.State]
		last := ""
		if c.ContactAt != nil {
			last = milliseconds(c.FirstByteSeconds)
		}
		retry := ""
		if c.RetryAt != nil && c.RetryAt.After(time.Now()) {
			retry = timeText(*c.RetryAt)
		}
		rows = append(rows, []string{c.URL, how, optionalTime(c.ContactAt, "never"), last, optionalTime(c.FailedAt, "never"),
			retry, c.Failure})
	}
	table(w, []string{"UPSTREAM", "IS", "LAST CONTACT", "LATENCY", "LAST FAILURE", "NEXT TRY", "WHAT WENT WRONG"},
		[]int{3}, rows)
	for _, c := range state.Contacts {
		if a := c.Allowed; a != nil {
			fmt.Fprintf(w, "\n%s lets it ask %s, said at %s.\n", c.URL, allowance(*a), timeText(a.At))
		}
	}
	t := state.Total
	share := "nothing asked for"
	if t.Hits+t.Misses > 0 {
		share = fmt.Sprintf("%d of %d files were kept already (%d %%)", t.Hits, t.Hits+t.Misses, 100*t.Hits/(t.Hits+t.Misses))
	}
	if f := state.Following; f != nil {
		fmt.Fprintln(w)
		fields(w, "follows", followingText(*f))
	}
	fmt.Fprintln(w)
	fields(w, fmt.Sprintf("last %d hours", hours), share, "served", api.Bytes(t.BytesServed), "fetched",
		api.Bytes(t.BytesFetched),
		"requests to upstream", fmt.Sprintf("%d, %s to the first byte on average", t.Requests,
			milliseconds(t.FirstByteSeconds)),
		"failures", strconv.FormatInt(t.Failures, 10), "stale answers", strconv.FormatInt(t.Stale, 10),
		"stale documents", strconv.Itoa(state.StaleTotal))
	if len(state.Stale) == 0 {
		return
	}
	fmt.Fprintln(w)
	rows = nil
	for _, d := range state.Stale {
		rows = append(rows, []string{d.Path, timeText(d.CheckedAt), timeText(d.FailedAt), d.Failure})
	}
	table(w, []string{"STALE DOCUMENT", "CURRENT UNTIL", "LAST TRIED", "WHY"}, nil, rows)
}

// followingText says how far a mirror is with the changes of its upstream.
func followingText(f api.Following) string {
	text := "in step, asked " + optionalTime(f.AskedAt, "never")
	if f.Behind > 0 || f.Failure != "" || f.DoneAt == nil {
		text = fmt.Sprintf("%s behind, in step last %s", count(f.Behind, "package"), optionalTime(f.DoneAt, "never"))
	}
	if f.Failure != "" {
		text += ": " + oneLine(f.Failure)
	}
	return text
}

func milliseconds(seconds float64) string {
	if seconds < 0.01 {
		return fmt.Sprintf("%.1f ms", seconds*1000)
	}
	return fmt.Sprintf("%.0f ms", seconds*1000)
}

func mirrorCheck(s *session) *cobra.Command {
	var flags mirrorFlags
	var ecosystem, sample string
	cmd := &cobra.Command{Use: "check [NAME]", Short: "Try upstreams, with settings that need not be saved",
		Args: arguments(cobra.MaximumNArgs(1)),
		Long: "Try the upstreams of a mirror, or those that are given, before anything is saved.\n" +
			"With NAME, settings that are not given are taken from that mirror.",
		Example: "  crelvo mirror check --upstream https://maven.openshore.example/ --for " +
			"pkg:maven/org.openshore/brine-http\n" +
			"  crelvo mirror check shore-maven --user ferry --secret-file password.txt",
		ValidArgsFunction: s.completeRepositories,
		RunE: func(cmd *cobra.Command, args []string) error {
			change, err := flags.change(cmd)
			if err != nil {
				return err
			}
			check := api.Check{Ecosystem: ecosystem, Mirror: change, PURL: sample}
			if len(args) == 1 {
				check.Like = args[0]
			} else if change == nil || change.Upstreams == nil {
				return usageError{fmt.Errorf("say which upstream to try, with --upstream, or which mirror")}
			}
			failed, checked := 0, []api.Checked{}
			err = answer(s, cmd, func(ctx context.Context, c *client.Client) ([]api.Checked, error) {
				return c.CheckMirror(ctx, check)
			}, func(w io.Writer, all []api.Checked) {
				checked = all
				var rows [][]string
				for _, c := range all {
					verdict := "good"
					if !c.OK {
						verdict, failed = "BAD", failed+1
					}
					network := "public"
					if c.Private {
						network = "private"
					}
					rows = append(rows, []string{c.URL, verdict, network, milliseconds(c.Seconds), c.Said})
				}
				table(w, []string{"UPSTREAM", "IS", "NETWORK", "TOOK", "WHAT IT SAID"}, []int{3}, rows)
			})
			if err == nil && failed > 0 {
				err = fmt.Errorf("%s of %d cannot be used as it is", counted(int64(failed), "upstream"), len(checked))
			}
			return err
		}}
	flags.add(cmd)
	cmd.Flags().StringVar(&ecosystem, "ecosystem", "maven", "what the upstream has")
	cmd.Flags().StringVar(&sample, "for", "", "a package or version that should be there")
	return cmd
}

// checkPURL makes wrong usage of what is no package URL.
func checkPURL(text string) error {
	if _, err := purl.Parse(text); err != nil {
		return usageError{err}
	}
	return nil
}

// inFlag adds the flag --in, which names a repository and must be given.
func inFlag(cmd *cobra.Command, s *session, in *string, what string) {
	cmd.Flags().StringVar(in, "in", "", what)
	must(cmd.RegisterFlagCompletionFunc("in", s.completeRepositories))
	run := cmd.RunE
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		if *in == "" {
			return usageError{fmt.Errorf("--in is missing: say which repository")}
		}
		return run(cmd, args)
	}
}

func mirrorTry(s *session) *cobra.Command {
	var in string
	var allow, deny []string
	cmd := &cobra.Command{Use: "try PURL", Short: "Try a package against the patterns of a mirror",
		Args: arguments(cobra.ExactArgs(1)),
		Example: "  crelvo mirror try pkg:maven/org.openshore/brine-http@2.1.0 --in shore-maven\n" +
			"  crelvo mirror try pkg:maven/org.openshore/brine-http@1.9 --in shore-maven --deny " +
			"'pkg:maven/org.openshore/*@vers:maven/<2.0'",
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := checkPURL(args[0]); err != nil {
				return err
			}
			try := api.Try{PURL: args[0]}
			if cmd.Flags().Changed("allow") {
				try.Allow = &allow
			}
			if cmd.Flags().Changed("deny") {
				try.Deny = &deny
			}
			return answer(s, cmd, func(ctx context.Context, c *client.Client) (api.Tried, error) {
				return c.TryPatterns(ctx, in, try)
			}, func(w io.Writer, t api.Tried) {
				verdict := "comes in"
				if !t.Allowed {
					verdict = "does not come in"
				}
				fmt.Fprintf(w, "%s %s: %s\n", t.PURL, verdict, t.Why)
			})
		}}
	cmd.Flags().StringSliceVar(&allow, "allow", nil, "try these patterns instead of those that are saved")
	cmd.Flags().StringSliceVar(&deny, "deny", nil, "the same, for what is denied")
	inFlag(cmd, s, &in, "the mirror")
	return cmd
}

func mirrorForget(s *session) *cobra.Command {
	var in string
	cmd := &cobra.Command{Use: "forget PURL", Short: "Drop copies from a mirror, and what its upstream said",
		Args: arguments(cobra.ExactArgs(1)),
		Long: "Drop the copies of a package, or of one version, from a mirror, with all that it remembers\n" +
			"of what its upstream said of the package; also that something is not there.",
		Example: "  crelvo mirror forget pkg:maven/org.openshore/brine-http@2.1.0 --in shore-maven",
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := checkPURL(args[0]); err != nil {
				return err
			}
			if err := s.confirm(cmd, fmt.Sprintf("Forget %s in %s? It can be fetched again only while the upstream has it.",
				args[0], in)); err != nil {
				return err
			}
			return answer(s, cmd, func(ctx context.Context, c *client.Client) (api.Forgotten, error) {
				return c.Forget(ctx, in, args[0])
			}, func(w io.Writer, f api.Forgotten) {
				fmt.Fprintf(w, "Forgot %s: %s, and %s that the upstream gave.\n", f.PURL, counted(f.Copies, "version"),
					counted(f.Documents, "answer"))
			})
		}}
	inFlag(cmd, s, &in, "the mirror")
	return cmd
}

func counted(n int64, what string) string {
	if n == 1 {
		return "1 " + what
	}
	return fmt.Sprintf("%d %ss", n, what)
}

func mirrorPrefetch(s *session) *cobra.Command {
	var follow bool
	cmd := &cobra.Command{Use: "prefetch NAME", Short: "Run the prefetch rule of a mirror now",
		Args: arguments(cobra.ExactArgs(1)), ValidArgsFunction: s.completeRepositories,
		Long: "Run the prefetch rule of a mirror now, and show how it goes. The rule is set with\n" +
			"crelvo repo edit NAME --prefetch PATTERN --schedule …",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := s.client()
			if err != nil {
				return err
			}
			run, err := c.Prefetch(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			for id := run.ID; follow && run.State == "running"; {
				select {
				case <-time.After(300 * time.Millisecond):
				case <-cmd.Context().Done():
					return cmd.Context().Err()
				}
				runs, err := c.PrefetchRuns(cmd.Context(), args[0], 5)
				if err != nil {
					return err
				}
				for _, r := range runs {
					if r.ID == id {
						run = r
					}
				}
				if isTerminal(cmd.ErrOrStderr()) {
					fmt.Fprintf(cmd.ErrOrStderr(), "\r%d packages: %d versions came, %d were there, %d failed; %s ", run.Planned,
						run.Came, run.There, run.Failed, api.Bytes(run.Bytes))
				}
			}
			if isTerminal(cmd.ErrOrStderr()) {
				fmt.Fprintln(cmd.ErrOrStderr())
			}
			w := cmd.OutOrStdout()
			if err := s.show(w, run, func() { showRun(w, run) }); err != nil {
				return err
			}
			if run.State == "failed" {
				return fmt.Errorf("the run ended early: %s", run.Failure)
			}
			return nil
		}}
	cmd.Flags().BoolVar(&follow, "wait", true, "wait for its end")
	return cmd
}

func showRun(w io.Writer, r api.PrefetchRun) {
	fields(w, "begun", timeText(r.BegunAt)+" by "+r.BegunBy, "ended", optionalTime(r.EndedAt, "still running"), "packages",
		strconv.Itoa(r.Planned),
		"came", counted(int64(r.Came), "version")+", "+api.Bytes(r.Bytes), "were there", counted(int64(r.There), "version"),
		"failed", strconv.Itoa(r.Failed), "ended early", r.Failure)
	if len(r.Report) == 0 {
		return
	}
	fmt.Fprintln(w)
	var rows [][]string
	for _, l := range r.Report {
		files, size := "", ""
		if l.Files > 0 {
			files, size = strconv.Itoa(l.Files), api.Bytes(l.Bytes)
		}
		rows = append(rows, []string{l.PURL, l.Outcome, files, size, l.Why})
	}
	table(w, []string{"VERSION", "OUTCOME", "FILES", "SIZE", "WHY"}, []int{2, 3}, rows)
}

func mirrorRuns(s *session) *cobra.Command {
	var limit int
	cmd := &cobra.Command{Use: "runs NAME", Short: "Show the last prefetch runs of a mirror",
		Args: arguments(cobra.ExactArgs(1)), ValidArgsFunction: s.completeRepositories,
		RunE: func(cmd *cobra.Command, args []string) error {
			return answer(s, cmd, func(ctx context.Context, c *client.Client) ([]api.PrefetchRun, error) {
				return c.PrefetchRuns(ctx, args[0], limit)
			}, func(w io.Writer, runs []api.PrefetchRun) {
				if len(runs) == 0 {
					fmt.Fprintf(w, "No runs yet. Start one: crelvo mirror prefetch %s\n", args[0])
					return
				}
				var rows [][]string
				for _, r := range runs {
					rows = append(rows, []string{timeText(r.BegunAt), r.BegunBy, r.State, strconv.Itoa(r.Planned),
						strconv.Itoa(r.Came),
						strconv.Itoa(r.There), strconv.Itoa(r.Failed), api.Bytes(r.Bytes), r.Failure})
				}
				table(w, []string{"BEGUN", "BY", "STATE", "PACKAGES", "CAME", "THERE", "FAILED", "SIZE", "WHY"},
					[]int{3, 4, 5, 6, 7}, rows)
			})
		}}
	cmd.Flags().IntVar(&limit, "limit", 10, "at most so many")
	return cmd
}
