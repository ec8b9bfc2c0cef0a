package cli

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"net/url"
	"os"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"crelvo/internal/api"
	"crelvo/internal/client"
	"crelvo/internal/core/catalog"
)

func policyCommand(s *session) *cobra.Command {
	return group("policy", "List, set and remove retention policies: what stays, and why", policyList(s), policyShow(s),
		policySet(s), policyPause(s, true), policyPause(s, false), policyRemove(s))
}

func policyList(s *session) *cobra.Command {
	return &cobra.Command{Use: "list", Short: "List retention policies", Args: arguments(cobra.NoArgs),
		RunE: func(cmd *cobra.Command, _ []string) error {
			return answer(s, cmd, func(ctx context.Context, c *client.Client) ([]api.Policy, error) {
				return c.Policies(ctx)
			}, func(w io.Writer, all []api.Policy) {
				if len(all) == 0 {
					fmt.Fprintln(w,
						"There are no retention policies. Write one, try it with crelvo sweep plan FILE, and set it with crelvo policy "+
							"set FILE.")
					return
				}
				var rows [][]string
				for _, p := range all {
					next, last := "by hand", "never"
					if p.Paused {
						next = "paused"
					} else if len(p.Next) > 0 {
						next = p.Next[0].Format("2006-01-02 15:04 MST")
					}
					if p.Last != nil {
						last = fmt.Sprintf("%s %s: %d", timeText(p.Last.BegunAt), p.Last.State, p.Last.Done)
					}
					rows = append(rows, []string{p.Name, orNone(p.About, "nothing yet"), strings.Join(p.Keep, "; "), next, last})
				}
				table(w, []string{"NAME", "ABOUT", "KEEPS", "NEXT RUN", "LAST RUN"}, nil, rows)
			})
		}}
}

func (s *session) completePolicies(cmd *cobra.Command, _ []string, _ string) ([]string, cobra.ShellCompDirective) {
	c, err := s.client()
	if err != nil {
		return nil, cobra.ShellCompDirectiveError
	}
	all, err := c.Policies(cmd.Context())
	var names []string
	for _, p := range all {
		names = append(names, p.Name)
	}
	if err != nil {
		return nil, cobra.ShellCompDirectiveError
	}
	return names, cobra.ShellCompDirectiveDefault
}

func policyShow(s *session) *cobra.Command {
	return &cobra.Command{Use: "show NAME", Short: "Show a retention policy as it is written, and when it runs",
		Args: arguments(cobra.ExactArgs(1)), ValidArgsFunction: s.completePolicies,
		RunE: func(cmd *cobra.Command, args []string) error {
			return answer(s, cmd, func(ctx context.Context, c *client.Client) (api.Policy, error) {
				return c.Policy(ctx, args[0])
			}, func(w io.Writer, p api.Policy) {
				fmt.Fprintln(w, strings.TrimRight(p.Text, "\n"))
				w = &commented{w} // all of it can be given to policy set again
				var next []string
				for _, at := range p.Next {
					next = append(next, at.Format("2006-01-02 15:04 MST"))
				}
				fields(w, "about now", orNone(p.About, "nothing yet"), "changed", timeText(p.ChangedAt)+" by "+p.ChangedBy,
					"paused", map[bool]string{true: "yes"}[p.Paused], "next runs", strings.Join(next, ", "))
				if p.Last != nil {
					fields(w, "last run", fmt.Sprintf("sweep %d of %s: %s", p.Last.ID, timeText(p.Last.BegunAt), p.Last.State))
				}
			})
		}}
}

// commented writes lines as comments of YAML.
type commented struct{ to io.Writer }

// Write implements io.Writer. It is given whole lines.
func (c *commented) Write(p []byte) (int, error) {
	_, err := io.WriteString(c.to, "# "+strings.ReplaceAll(strings.TrimRight(string(p), "\n"), "\n", "\n# ")+"\n")
	return len(p), err
}

// readText reads a file, or the standard input for -.
func readText(cmd *cobra.Command, name string) (string, error) {
	if name == "-" {
		raw, err := io.ReadAll(cmd.InOrStdin())
		return string(raw), err
	}
	raw, err := os.ReadFile(name)
	return string(raw), err
}

func policySet(s *session) *cobra.Command {
	return &cobra.Command{Use: "set FILE",
		Short:   "Make a retention policy from a file, or change the one of its name; - is the standard input",
		Args:    arguments(cobra.ExactArgs(1)),
		Example: "  crelvo sweep plan development-builds.yaml\n  crelvo policy set development-builds.yaml",
		RunE: func(cmd *cobra.Command, args []string) error {
			text, err := readText(cmd, args[0])
			if err != nil {
				return err
			}
			return answer(s, cmd, func(ctx context.Context, c *client.Client) (api.Policy, error) {
				return c.SetPolicy(ctx, api.SetPolicy{Text: text})
			}, func(w io.Writer, p api.Policy) {
				fmt.Fprintf(w, "Set the policy %s, which is about %s. ", p.Name, orNone(p.About, "no repository yet"))
				if len(p.Next) == 0 {
					fmt.Fprintf(w, "It runs by hand: crelvo sweep run %s\n", p.Name)
					return
				}
				fmt.Fprintf(w, "It runs next at %s. See what it would do: crelvo sweep plan %s\n",
					p.Next[0].Format("2006-01-02 15:04 MST"), p.Name)
			})
		}}
}

func policyPause(s *session, paused bool) *cobra.Command {
	use, short, did := "pause NAME", "Pause a policy: it neither runs nor keeps anything",
		"Paused %s: it neither runs, nor keeps anything from other policies."
	if !paused {
		use, short, did = "resume NAME", "Let a paused policy run again", "%s runs and counts again."
	}
	return &cobra.Command{Use: use, Short: short, Args: arguments(cobra.ExactArgs(1)),
		ValidArgsFunction: s.completePolicies, RunE: func(cmd *cobra.Command, args []string) error {
			return s.done(cmd, func(ctx context.Context, c *client.Client) error {
				p, err := c.Policy(ctx, args[0])
				if err == nil {
					_, err = c.SetPolicy(ctx, api.SetPolicy{Text: p.Text, Paused: paused})
				}
				return err
			}, did, args[0])
		}}
}

func policyRemove(s *session) *cobra.Command {
	return &cobra.Command{Use: "remove NAME", Short: "Remove a retention policy; what it swept stays as it is",
		Args: arguments(cobra.ExactArgs(1)), ValidArgsFunction: s.completePolicies,
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := s.confirm(cmd, "Remove the policy "+args[0]+"?"); err != nil {
				return err
			}
			return s.done(cmd, func(ctx context.Context, c *client.Client) error {
				return c.RemovePolicy(ctx, args[0])
			}, "Removed the policy %s.", args[0])
		}}
}

func sweepCommand(s *session) *cobra.Command {
	return group("sweep", "Plan, run and undo sweeps: what retention policies take out", sweepPlan(s), sweepRun(s),
		sweepList(s), sweepShow(s), sweepUndo(s), sweepStop(s))
}

// planOf makes a request of the name of a policy, or of a file with one.
func planOf(cmd *cobra.Command, name, asOf string) (r api.PlanRequest, err error) {
	if asOf != "" {
		at, err := parseSince(asOf)
		if err != nil {
			return r, err
		}
		r.AsOf = at.Format(time.RFC3339Nano)
	}
	if _, bad := os.Stat(name); bad == nil || name == "-" {
		r.Text, err = readText(cmd, name)
		return r, err
	}
	if strings.ContainsAny(name, "/\\") || strings.HasSuffix(name, ".yaml") || strings.HasSuffix(name, ".yml") {
		return r, usageError{fmt.Errorf("there is no file %s", name)}
	}
	r.Policy = name
	return r, nil
}

func sweepPlan(s *session) *cobra.Command {
	var asOf, fate, match, form string
	var limit int
	cmd := &cobra.Command{Use: "plan POLICY|FILE",
		Short: "Show what a policy would do, saved or in a file: every version, and why", Args: arguments(cobra.ExactArgs(1)),
		ValidArgsFunction: s.completePolicies,
		Long: "Show what a policy would do, with the reason for every version and what its removal would really free: " +
			"bytes\n" +
			"that something kept has too are not freed. Nothing is changed. A policy in a file can be tried before it is set.",
		Example: "  crelvo sweep plan development-builds\n  crelvo sweep plan edited.yaml --as-of +30d\n" +
			"  crelvo sweep plan development-builds --form csv > plan.csv",
		RunE: func(cmd *cobra.Command, args []string) error {
			r, err := planOf(cmd, args[0], asOf)
			if err != nil {
				return err
			}
			r.Fate, r.Match, r.Limit = fate, match, limit
			if form == "table" {
				return answer(s, cmd, func(ctx context.Context, c *client.Client) (api.SweepPlan, error) {
					return c.PlanSweep(ctx, r)
				}, showSweepPlan)
			}
			c, err := s.client()
			if err != nil {
				return err
			}
			lines, err := c.PlanLines(cmd.Context(), r, form == "csv")
			if err != nil {
				return err
			}
			defer lines.Close()
			_, err = io.Copy(cmd.OutOrStdout(), lines)
			return err
		}}
	f := cmd.Flags()
	f.StringVar(&asOf, "as-of", "", "as of another moment: "+catalog.MomentForms)
	f.StringVar(&fate, "fate", "swept", "list those that are kept, swept or outside; \"\" is all")
	f.StringVar(&match, "match", "", "list only those that have this in their package URL")
	f.IntVar(&limit, "limit", 20, "list at most so many versions")
	f.StringVar(&form, "form", "table", "table; lines of json, or csv: those list all versions")
	must(cmd.RegisterFlagCompletionFunc("fate", fixed("kept", "swept", "outside")))
	must(cmd.RegisterFlagCompletionFunc("form", fixed("table", "json", "csv")))
	return cmd
}

func showSweepPlan(w io.Writer, p api.SweepPlan) {
	t := p.Total
	fmt.Fprintf(w, "%s would take %d of %d versions, %s, and free %s. As of %s.\n", p.Policy, t.Swept, t.Kept+t.Swept+
		t.Outside, api.Bytes(t.SweptBytes), api.Bytes(t.Freed), timeText(p.At))
	for _, ask := range p.Asks {
		fmt.Fprintf(w, "It would stop and ask: %s.\n", ask)
	}
	if p.Last != nil {
		fmt.Fprintf(w, "Since the last run, sweep %d of %s: %d of these stayed then, %d came since.\n", p.Last.ID,
			timeText(p.Last.BegunAt), p.Then, p.New)
	}
	fmt.Fprintln(w)
	totals := func(head string, all []api.PlanTotal) {
		var rows [][]string
		for _, t := range all {
			rows = append(rows, []string{t.Name, strconv.Itoa(t.Kept), strconv.Itoa(t.Swept), strconv.Itoa(t.Outside),
				api.Bytes(t.KeptBytes), api.Bytes(t.SweptBytes), api.Bytes(t.Freed)})
		}
		table(w, []string{head, "KEPT", "SWEPT", "OUTSIDE", "KEPT SIZE", "SWEPT SIZE", "FREED"}, []int{1, 2, 3, 4, 5, 6},
			rows)
		fmt.Fprintln(w)
	}
	totals("REPOSITORY", p.Repositories)
	if len(p.Ecosystems) > 1 {
		totals("ECOSYSTEM", p.Ecosystems)
	}
	var reasons [][]string
	for _, r := range p.Reasons {
		reasons = append(reasons, []string{strconv.Itoa(r.Kept + r.Swept), api.Bytes(r.KeptBytes + r.SweptBytes), r.Name})
	}
	table(w, []string{"VERSIONS", "SIZE", "BECAUSE"}, []int{0, 1}, reasons)
	if len(p.Lines) == 0 {
		return
	}
	fmt.Fprintln(w)
	var rows [][]string
	for _, l := range p.Lines {
		reason := l.Reason
		if l.Policy != "" && l.Policy != p.Policy {
			reason += ", by " + l.Policy
		}
		rows = append(rows, []string{l.Fate, l.PURL, reason, day(l.UsedAt), strconv.FormatInt(l.Users, 10),
			api.Bytes(l.Bytes), api.Bytes(l.Freed), l.At.Local().Format("2006-01-02"), l.Repository, l.Upload})
	}
	table(w, []string{"FATE", "VERSION", "WHY", "LAST USED", "USERS", "SIZE", "FREED", "PUBLISHED", "IN", "UPLOAD"},
		[]int{4, 5, 6}, rows)
	if more := p.Found - len(p.Lines); more > 0 {
		fmt.Fprintf(w, "and %d more: --limit %d, or --form csv\n", more, p.Found)
	}
}

func day(t *time.Time) string {
	if t == nil {
		return "never"
	}
	return t.Local().Format("2006-01-02")
}

func sweepRun(s *session) *cobra.Command {
	var r api.RunSweep
	var dry, wait bool
	cmd := &cobra.Command{Use: "run POLICY", Short: "Sweep by a policy; what goes can be brought back within the grace",
		Args: arguments(cobra.ExactArgs(1)), ValidArgsFunction: s.completePolicies,
		Long: "Sweep by a policy, in the background of the service. Where that would take more than the policy lets one " +
			"run\n" +
			"take, it stops before anything is taken and asks: look at it, and run it again with --go-on.",
		Example: "  crelvo sweep run development-builds --dry-run\n  crelvo sweep run development-builds --wait",
		RunE: func(cmd *cobra.Command, args []string) error {
			r.Policy = args[0]
			if dry {
				return answer(s, cmd, func(ctx context.Context, c *client.Client) (api.SweepPlan, error) {
					return c.PlanSweep(ctx, api.PlanRequest{Policy: r.Policy, Fate: "swept", Limit: 20})
				}, showSweepPlan)
			}
			var asks bool
			err := answer(s, cmd, func(ctx context.Context, c *client.Client) (api.Sweep, error) {
				sweep, err := c.RunSweep(ctx, r)
				for err == nil && wait && sweep.State == "underway" {
					time.Sleep(300 * time.Millisecond) // between two looks
					var page api.SweepPage
					page, err = c.Sweep(ctx, sweep.ID, url.Values{"limit": {"1"}})
					sweep = page.Sweep
				}
				asks = sweep.State == "asking"
				return sweep, err
			}, func(w io.Writer, sweep api.Sweep) {
				switch sweep.State {
				case "asking":
					fmt.Fprintf(w,
						"Sweep %d took nothing yet: %s.\n"+
							"Look at it with crelvo sweep show %d; then crelvo sweep run %s --go-on, or crelvo sweep stop %d.\n", sweep.ID,
						sweep.Why, sweep.ID, sweep.Policy, sweep.ID)
				case "underway":
					fmt.Fprintf(w,
						"Sweep %d takes %d versions, %s. How far it is: crelvo sweep show %d. Take it back within %s: crelvo sweep "+
							"undo %d\n", sweep.ID, sweep.Versions, api.Bytes(sweep.Bytes), sweep.ID, sweep.Grace, sweep.ID)
				default:
					fmt.Fprintf(w,
						"Sweep %d is %s: it took %d of %d versions; %d stayed after all. Take it back within %s: crelvo sweep undo %d\n",
						sweep.ID, sweep.State, sweep.Done, sweep.Versions, sweep.Spared, sweep.Grace, sweep.ID)
				}
			})
			if err == nil && asks {
				return silent(exitAsks)
			}
			return err
		}}
	cmd.Flags().BoolVar(&r.GoOn, "go-on", false, "also if it takes more than the policy lets it")
	cmd.Flags().BoolVar(&dry, "dry-run", false, "only show what it would take")
	cmd.Flags().BoolVar(&wait, "wait", false, "wait until it is done")
	return cmd
}

func sweepList(s *session) *cobra.Command {
	var policy, state string
	var limit int
	cmd := &cobra.Command{Use: "list", Short: "List sweeps, the newest first", Args: arguments(cobra.NoArgs),
		RunE: func(cmd *cobra.Command, _ []string) error {
			query := url.Values{"policy": {policy}, "limit": {strconv.Itoa(limit)}}
			if state != "" {
				query.Set("state", state)
			}
			return answer(s, cmd, func(ctx context.Context, c *client.Client) ([]api.Sweep, error) {
				return c.Sweeps(ctx, query)
			}, func(w io.Writer, all []api.Sweep) {
				var rows [][]string
				for _, x := range all {
					rows = append(rows, []string{strconv.FormatInt(x.ID, 10), cmp.Or(x.Policy, "(by hand)"), x.State,
						timeText(x.BegunAt), x.BegunBy, strings.Join(x.Repositories, ", "),
						strconv.Itoa(x.Done), strconv.Itoa(x.Back), strconv.Itoa(x.Reclaimed), api.Bytes(x.Bytes)})
				}
				table(w, []string{"SWEEP", "POLICY", "STATE", "BEGUN", "BY", "IN", "TAKEN", "BACK", "RECLAIMED", "SIZE"},
					[]int{0, 6, 7, 8, 9}, rows)
			})
		}}
	cmd.Flags().StringVar(&policy, "policy", "", "only of this policy")
	cmd.Flags().StringVar(&state, "state", "", "only those that are asking, underway, done, cancelled or failed")
	cmd.Flags().IntVar(&limit, "limit", 20, "at most so many")
	must(cmd.RegisterFlagCompletionFunc("policy", s.completePolicies))
	return cmd
}

func sweepID(arg string) (int64, error) {
	id, err := strconv.ParseInt(arg, 10, 64)
	if err != nil {
		return 0, usageError{fmt.Errorf("%q is no number of a sweep; crelvo sweep list shows them", arg)}
	}
	return id, nil
}

func sweepShow(s *session) *cobra.Command {
	var state string
	var limit int
	cmd := &cobra.Command{Use: "show SWEEP", Short: "Show a sweep, and what it took", Args: arguments(cobra.ExactArgs(1)),
		RunE: func(cmd *cobra.Command, args []string) error {
			id, err := sweepID(args[0])
			if err != nil {
				return err
			}
			query := url.Values{"limit": {strconv.Itoa(limit)}}
			if state != "" {
				query.Set("state", state)
			}
			return answer(s, cmd, func(ctx context.Context, c *client.Client) (api.SweepPage, error) {
				return c.Sweep(ctx, id, query)
			}, func(w io.Writer, p api.SweepPage) {
				fields(w, "sweep", strconv.FormatInt(p.ID, 10), "policy", cmp.Or(p.Policy, "(by hand)"), "state", p.State, "why",
					p.Why, "in", strings.Join(p.Repositories, ", "), "begun", timeText(p.BegunAt)+" by "+p.BegunBy,
					"ended", optionalTime(p.EndedAt, ""), "grace", p.Grace, "planned",
					fmt.Sprintf("%d versions, %s; frees %s", p.Versions, api.Bytes(p.Bytes), api.Bytes(p.Freed)),
					"taken", fmt.Sprintf("%d; %d stayed after all, %d came back, of %d the bytes are reclaimed", p.Done, p.Spared,
						p.Back, p.Reclaimed))
				fmt.Fprintln(w)
				var rows [][]string
				for _, i := range p.Items {
					rows = append(rows, []string{i.State, i.Repository, i.PURL, i.Upload, day(i.UsedAt),
						strconv.FormatInt(i.Users, 10), api.Bytes(i.Bytes), optionalTime(i.GraceUntil, ""), i.Note})
				}
				table(w, []string{"STATE", "IN", "VERSION", "UPLOAD", "LAST USED", "USERS", "SIZE", "BACK UNTIL", "NOTE"},
					[]int{5, 6}, rows)
				if p.After != nil {
					fmt.Fprintf(w, "and more: --limit %d\n", max(p.Versions, limit*2))
				}
			})
		}}
	cmd.Flags().StringVar(&state, "state", "", "list only what is planned, removed, spared, back or reclaimed")
	cmd.Flags().IntVar(&limit, "limit", 50, "list at most so many versions, up to 5000")
	return cmd
}

func sweepUndo(s *session) *cobra.Command {
	return &cobra.Command{Use: "undo SWEEP [PURL…]",
		Short:   "Bring back what a sweep took: all of it, or what fits some package URLs or patterns",
		Args:    arguments(cobra.MinimumNArgs(1)),
		Example: "  crelvo sweep undo 12\n  crelvo sweep undo 12 'pkg:npm/@skerry/*'",
		RunE: func(cmd *cobra.Command, args []string) error {
			id, err := sweepID(args[0])
			if err != nil {
				return err
			}
			return answer(s, cmd, func(ctx context.Context, c *client.Client) (api.Undone, error) {
				return c.UndoSweep(ctx, id, args[1:])
			}, func(w io.Writer, u api.Undone) {
				fmt.Fprintf(w, "Brought back %s, with labels and history.\n", count(u.Back, "version"))
				for _, n := range u.Not {
					fmt.Fprintf(w, "not %s: %s\n", n.PURL, n.Why)
				}
			})
		}}
}

func sweepStop(s *session) *cobra.Command {
	return &cobra.Command{Use: "stop SWEEP", Short: "Stop a sweep that asks or is under way",
		Args: arguments(cobra.ExactArgs(1)), RunE: func(cmd *cobra.Command, args []string) error {
			id, err := sweepID(args[0])
			if err != nil {
				return err
			}
			return s.done(cmd, func(ctx context.Context, c *client.Client) error {
				_, err := c.StopSweep(ctx, id)
				return err
			}, "Stopped sweep %d. What it took can be brought back: crelvo sweep undo %d", id, id)
		}}
}
