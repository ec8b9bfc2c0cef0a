package cli

import (
	"context"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"crelvo/internal/api"
	"crelvo/internal/client"
	"crelvo/internal/core/safety"
)

func vettingCommand(s *session) *cobra.Command {
	return group("vetting", "Decide what may come in from outside, and see what awaits a decision", vettingQueue(s),
		vettingTry(s), vettingLook(s), vettingAsk(s), vettingDecide(s, "accept", "accepted"), vettingDecide(s, "refuse", "refused"),
		vettingList(s), vettingEnd(s))
}

func vettingQueue(s *session) *cobra.Command {
	var in string
	cmd := &cobra.Command{Use: "queue", Short: "List what awaits a decision, and who wants it",
		Args:    arguments(cobra.NoArgs),
		Example: "  crelvo vetting queue\n  crelvo vetting queue --in shore-npm",
		RunE: func(cmd *cobra.Command, _ []string) error {
			return answer(s, cmd, func(ctx context.Context, c *client.Client) (api.VettingQueue, error) {
				return c.Awaiting(ctx, in)
			}, func(w io.Writer, q api.VettingQueue) {
				if len(q.Waiting) == 0 {
					fmt.Fprintln(w, "Nothing awaits a decision.")
					return
				}
				var rows [][]string
				for _, n := range q.Waiting {
					rows = append(rows, []string{n.PURL, n.Repository, optionalTime(n.Facts.PublishedAt, "not stated"),
						orNone(n.Facts.Licences, "not stated"), worstOf(n.Facts.Findings), orNone(n.WantedBy, "-"), timeText(n.LastAt),
						strings.TrimSpace(n.Purpose + n.Unknown)})
				}
				table(w, []string{"PACKAGE", "IN", "PUBLISHED", "LICENCE", "ADVISORIES", "WANTED BY", "LAST ASKED",
					"FOR"}, nil, rows)
				if q.More {
					fmt.Fprintln(w, "There is more; decide about these first, or name a repository with --in.")
				}
			})
		}}
	cmd.Flags().StringVar(&in, "in", "", "only what was asked of this repository")
	must(cmd.RegisterFlagCompletionFunc("in", s.completeRepositories))
	return cmd
}

// worstOf says how many advisories there are and how bad the worst is.
func worstOf(all []api.Finding) string {
	switch {
	case len(all) == 0:
		return "none known"
	case all[0].Malicious:
		return "malicious"
	case len(all) == 1:
		return all[0].Severity
	}
	return fmt.Sprintf("%s, and %d more", all[0].Severity, len(all)-1)
}

func vettingTry(s *session) *cobra.Command {
	var in string
	cmd := &cobra.Command{Use: "try PURL", Short: "Show how a repository decides about a version, and each of its rules",
		Args: arguments(cobra.ExactArgs(1)),
		Long: "Show how a repository decides about a version that it has or its upstream lists, what each rule says of it, and\n" +
			"what it needs in turn. Without a version, the newest release is looked at.",
		Example: "  crelvo vetting try pkg:npm/wrack-chart@1.1.0 --in shore-npm",
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := checkPURL(args[0]); err != nil {
				return err
			}
			return answer(s, cmd, func(ctx context.Context, c *client.Client) (api.Assessment, error) {
				return c.Assess(ctx, in, args[0], true)
			}, showAssessment)
		}}
	inFlag(cmd, s, &in, "the repository that would let it in")
	return cmd
}

func vettingLook(s *session) *cobra.Command {
	var in string
	cmd := &cobra.Command{Use: "look PURL", Short: "Look into a version, and compare it with the one before it",
		Args: arguments(cobra.ExactArgs(1)),
		Long: "Look into the archive of a version that a mirror has or its upstream lists: how many files there are,\n" +
			"which of them a processor runs as they are, and which are not as in the version before it that is let in. What\n" +
			"is fetched for that is not kept, and is not let in by it. Without a version, the newest release is looked into.",
		Example: "  crelvo vetting look pkg:npm/wrack-chart@1.1.0 --in shore-npm",
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := checkPURL(args[0]); err != nil {
				return err
			}
			return answer(s, cmd, func(ctx context.Context, c *client.Client) (api.LookedInside, error) {
				return c.LookInside(ctx, in, args[0])
			}, showInside)
		}}
	inFlag(cmd, s, &in, "the mirror that would let it in")
	return cmd
}

func showInside(w io.Writer, in api.LookedInside) {
	fmt.Fprintf(w, "%s has %s, %s, in %s.\n", in.PURL, count(in.Files, "file"), api.Bytes(in.Bytes), in.Archive)
	if len(in.Code) == 0 {
		fmt.Fprintln(w, "No processor runs any of them as it is.")
	} else {
		fmt.Fprintf(w, "A processor runs as they are: %s\n", strings.Join(in.Code, ", "))
	}
	switch {
	case in.Before == "":
		fmt.Fprintln(w, "No version before it is let in, with which it could be compared.")
	case in.WhyNot != "":
		fmt.Fprintf(w, "It was not compared with %s: %s\n", in.Before, in.WhyNot)
	default:
		fmt.Fprintf(w, "\nSince %s, which is let in\n", in.Before)
		showFileDifferences(w, in.Differences)
	}
}

func showAssessment(w io.Writer, a api.Assessment) {
	switch {
	case a.LetIn && a.By != nil:
		fmt.Fprintf(w, "%s lets %s in: %s accepted it: %s\n", a.Repository, a.PURL, a.By.By, a.By.Reason)
	case a.LetIn && a.Rule > 0:
		fmt.Fprintf(w, "%s lets %s in: rule %d accepts it\n", a.Repository, a.PURL, a.Rule)
	case a.LetIn:
		fmt.Fprintf(w, "%s lets %s in\n", a.Repository, a.PURL)
	default:
		fmt.Fprintf(w, "%s keeps out %s: %s\n", a.Repository, a.PURL, a.Why)
	}
	fmt.Fprintln(w)
	pairs := factPairs(a.Facts)
	if a.Before != "" {
		pairs = append(pairs, "before it", differences(a))
	}
	fields(w, pairs...)
	for i, r := range a.Rules {
		says := "does not fit"
		if r.Fits {
			says = "fits"
		}
		fmt.Fprintf(w, "\nRule %d %s: %s\n", i+1, says, r.Rule)
		var rows [][]string
		for _, c := range r.Conditions {
			mark := "no"
			if c.Fits {
				mark = "yes"
			}
			rows = append(rows, []string{mark, c.Condition, c.Fact})
		}
		table(w, []string{"FITS", "CONDITION", "SINCE"}, nil, rows)
	}
	if len(a.Needs) > 0 {
		fmt.Fprintln(w)
		var rows [][]string
		for _, n := range a.Needs {
			rows = append(rows, []string{n.PURL, n.Range, n.State, n.By, n.Why})
		}
		table(w, []string{"NEEDS", "RANGE", "STATE", "NEEDED BY", "WHY"}, nil, rows)
	}
}

func factPairs(f api.VersionFacts) []string {
	yesNo := map[bool]string{true: "yes", false: "no"}
	return []string{"published", optionalTime(f.PublishedAt, "not stated"), "licence", orNone(f.Licences, "not stated"),
		"authors", orNone(f.Authors, "not stated"), "maintainers", orNone(f.Maintainers, "not stated"),
		"advisories", worstOf(f.Findings), "install scripts", yesNo[f.RunsScripts], "inside", insideText(f),
		"built from", sourcesText(f),
		"downloads", fmt.Sprintf("%d of its package, from this server", f.Downloads),
		"files", filesText(f), "needs", orNone(f.Needs, "nothing"), "kept",
		yesNo[f.Kept]}
}

func insideText(f api.VersionFacts) string {
	switch {
	case !f.Looked:
		return "nobody has looked: crelvo vetting look"
	case len(f.Code) == 0:
		return "nothing that a processor runs as it is"
	}
	return "a processor runs as they are: " + strings.Join(f.Code, ", ")
}

func sourcesText(f api.VersionFacts) string {
	var all []string
	for _, p := range f.BuiltFrom {
		all = append(all, strings.TrimSpace(p.Source+" "+p.Ref)+", verified by "+p.VerifiedBy)
	}
	switch {
	case all != nil:
		return strings.Join(all, "; ")
	case !f.Looked:
		return "nobody has looked: crelvo vetting look"
	}
	return "nothing that is trusted here says it"
}

func filesText(f api.VersionFacts) string {
	if f.Size == 0 {
		return fmt.Sprintf("%d, size not stated", f.Files)
	}
	return fmt.Sprintf("%d, %s", f.Files, api.Bytes(f.Size))
}

// differences tells what is not as in the version before.
func differences(a api.Assessment) string {
	was := a.BeforeThat
	if was == nil {
		return a.Before
	}
	var all []string
	say := func(differs bool, format string, args ...any) {
		if differs {
			all = append(all, fmt.Sprintf(format, args...))
		}
	}
	more, less := without(a.Facts.Needs, was.Needs), without(was.Needs, a.Facts.Needs)
	say(len(more) > 0, "needs also %s", strings.Join(more, ", "))
	say(len(less) > 0, "no more needs %s", strings.Join(less, ", "))
	say(strings.Join(a.Facts.Licences, ",") != strings.Join(was.Licences, ","), "the licence was %s",
		orNone(was.Licences, "not stated"))
	say(strings.Join(a.Facts.Authors, ",") != strings.Join(was.Authors, ","), "the authors were %s",
		orNone(was.Authors, "not stated"))
	come := without(a.Facts.Maintainers, was.Maintainers)
	say(len(come) > 0, "%s did not look after it", strings.Join(come, ", "))
	say(a.Facts.RunsScripts && !was.RunsScripts, "it ran no install scripts")
	say(a.Facts.Size > 2*was.Size && was.Size > 0, "it had %s", api.Bytes(was.Size))
	return a.Before + ": " + orNone(all, "nothing else is known to be different")
}

// without is what is in one list and not in another.
func without(all, those []string) []string {
	return slices.DeleteFunc(slices.Clone(all), func(one string) bool { return slices.Contains(those, one) })
}

func vettingAsk(s *session) *cobra.Command {
	var in, purpose string
	cmd := &cobra.Command{Use: "ask PURL", Short: "Put a version before those who decide",
		Args: arguments(cobra.ExactArgs(1)),
		Long: "Put a version before those who decide about a repository, and say what it is needed for. Who is refused\n" +
			"something that awaits a decision is on record already.",
		Example: "  crelvo vetting ask pkg:npm/kelp-colors@1.4.0 --in shore-npm --for 'the tide table of the berth planner'",
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := checkPURL(args[0]); err != nil {
				return err
			}
			return answer(s, cmd, func(ctx context.Context, c *client.Client) (api.Assessment, error) {
				return c.AskForVetting(ctx, api.VettingWish{Repository: in, PURL: args[0], Purpose: purpose})
			}, func(w io.Writer, a api.Assessment) {
				fmt.Fprintf(w, "%s was put before those who look after %s.\n", a.PURL, a.Repository)
			})
		}}
	inFlag(cmd, s, &in, "the repository that is to let it in")
	cmd.Flags().StringVar(&purpose, "for", "", "what it is needed for")
	return cmd
}

func vettingDecide(s *session, verb, decision string) *cobra.Command {
	var reason, until string
	var in []string
	var needs bool
	cmd := &cobra.Command{Use: verb + " PATTERN...", Short: strings.ToUpper(verb[:1]) + verb[1:] + " what patterns fit",
		Args: arguments(cobra.MinimumNArgs(1)),
		RunE: func(cmd *cobra.Command, args []string) error {
			n := api.NewVetting{Decision: decision, Patterns: args, Repositories: in, Reason: reason}
			if reason == "" {
				return usageError{fmt.Errorf("say why: --reason")}
			}
			if until != "" {
				at, err := parseMoment(until, time.Now(), true)
				if err != nil {
					return err
				}
				n.Until = &at
			}
			return answer(s, cmd, func(ctx context.Context, c *client.Client) ([]api.Vetting, error) {
				if needs {
					if len(in) != 1 {
						return nil, usageError{fmt.Errorf("with --with-needs, name the one repository with --in")}
					}
					for _, p := range args {
						a, err := c.Assess(ctx, in[0], p, true)
						if err != nil {
							return nil, err
						}
						for _, need := range a.Needs {
							if need.State == "awaiting" {
								n.Patterns = append(n.Patterns, need.PURL)
							}
						}
					}
				}
				return c.Vet(ctx, n)
			}, tableOfVettings)
		}}
	cmd.Flags().StringVar(&reason, "reason", "", "why")
	cmd.Flags().StringVar(&until, "until", "",
		"when it ends: a day, a moment, or how long from now, such as 30d (default: when somebody ends it)")
	cmd.Flags().StringSliceVar(&in, "in", nil, "for these repositories, or patterns of their names (default: all)")
	must(cmd.RegisterFlagCompletionFunc("in", s.completeRepositories))
	if decision == "accepted" {
		cmd.Long = "Let in what patterns fit: though nobody has looked at it, though it is too young, and, if the pattern names one\n" +
			"package, whatever its licence is. Advisories are accepted by waivers, and what somebody refused stays out."
		cmd.Example = "  crelvo vetting accept pkg:npm/kelp-colors@1.4.0 --in shore-npm --reason 'read through' --until 90d\n" +
			"  crelvo vetting accept 'pkg:npm/@openshore/*' --reason 'we know them'"
		cmd.Flags().BoolVar(&needs, "with-needs", false, "accept also what awaits of what it needs, in the version that fits and that clients take")
	} else {
		cmd.Long = "Keep out what patterns fit, also what is kept already, whoever accepted it."
		cmd.Example = "  crelvo vetting refuse pkg:npm/wrack-left --reason 'nobody looks after it; take kelp-colors'"
	}
	return cmd
}

func tableOfVettings(w io.Writer, all []api.Vetting) {
	var rows [][]string
	for _, n := range all {
		rows = append(rows, []string{strconv.FormatInt(n.ID, 10), n.Decision, n.Pattern, orNone(n.Repositories, "all"),
			endText(n.Until, n.EndedAt, n.EndedBy),
			n.By, n.Reason})
	}
	table(w, []string{"VETTING", "DECISION", "FOR", "IN", "UNTIL", "BY", "REASON"}, []int{0}, rows)
}

func vettingList(s *session) *cobra.Command {
	var all bool
	cmd := &cobra.Command{Use: "list", Short: "List the decisions that stand", Args: arguments(cobra.NoArgs),
		Example: "  crelvo vetting list\n  crelvo vetting list --all",
		RunE: func(cmd *cobra.Command, _ []string) error {
			return answer(s, cmd, func(ctx context.Context, c *client.Client) ([]api.Vetting, error) {
				return c.Vettings(ctx, all)
			}, func(w io.Writer, all []api.Vetting) {
				if len(all) == 0 {
					fmt.Fprintln(w, "Nobody has decided about anything.")
					return
				}
				tableOfVettings(w, all)
			})
		}}
	cmd.Flags().BoolVar(&all, "all", false, "those that have ended too")
	return cmd
}

func vettingEnd(s *session) *cobra.Command {
	return &cobra.Command{Use: "end VETTING", Short: "End a decision", Args: arguments(cobra.ExactArgs(1)),
		Example: "  crelvo vetting end 3",
		RunE: func(cmd *cobra.Command, args []string) error {
			id, err := strconv.ParseInt(args[0], 10, 64)
			if err != nil {
				return usageError{fmt.Errorf("%q is no number of a decision; crelvo vetting list shows them", args[0])}
			}
			c, err := s.client()
			if err != nil {
				return err
			}
			if err := c.EndVetting(cmd.Context(), id); err != nil {
				return err
			}
			return s.said(cmd, "Ended decision %d.", id)
		}}
}

// admissionFlags are what a repository lets in.
type admissionFlags struct {
	cooldown int
	vetted   bool
	accepts  []string
	allow    []string
	refuse   []string
	unstated string
}

func (f *admissionFlags) add(cmd *cobra.Command) {
	flags := cmd.Flags()
	flags.IntVar(&f.cooldown, "cooldown", 0, "how many days old a version must be that comes from outside; what is kept stays")
	flags.BoolVar(&f.vetted, "vetted", false, "have what comes from outside await a person's decision, unless a rule accepts it")
	flags.StringArrayVar(&f.accepts, "accept", nil,
		"a rule that accepts by itself: conditions with commas between them, which are "+
			strings.Join(safety.AcceptanceForms, "; ")+`; may be repeated; "" takes all away`)
	flags.StringSliceVar(&f.allow, "allow-licence", nil,
		`licences of which one is enough, such as MIT,Apache-2.0; what has others awaits a decision; "" takes all away`)
	flags.StringSliceVar(&f.refuse, "refuse-licence", nil,
		`licences that keep a version out, with * for any run of characters; "" takes all away`)
	flags.StringVar(&f.unstated, "unstated-licence", "let-in", "what is done with a version that states no licence: let-in, await or refuse")
	must(cmd.RegisterFlagCompletionFunc("unstated-licence", fixed("let-in", "await", "refuse")))
}

// change is what was given; nil if nothing was.
func (f *admissionFlags) change(cmd *cobra.Command) *api.AdmissionChange {
	some := func(name string, list *[]string) *[]string {
		given := ifGiven(cmd, name, list)
		if given != nil && len(*given) == 1 && (*given)[0] == "" {
			return &[]string{}
		}
		return given
	}
	c := api.AdmissionChange{CooldownDays: ifGiven(cmd, "cooldown", &f.cooldown), Vetted: ifGiven(cmd, "vetted",
		&f.vetted),
		Accepts: some("accept", &f.accepts), AllowLicences: some("allow-licence", &f.allow),
		RefuseLicences: some("refuse-licence", &f.refuse), UnstatedLicence: ifGiven(cmd, "unstated-licence", &f.unstated)}
	if c == (api.AdmissionChange{}) {
		return nil
	}
	return &c
}

// admissionPairs say what a repository lets in.
func admissionPairs(a api.Admission) (pairs []string) {
	if a.CooldownDays > 0 {
		pairs = append(pairs, "cooldown", counted(int64(a.CooldownDays), "day"))
	}
	if a.Vetted {
		pairs = append(pairs, "from outside", "awaits a decision")
	}
	for i, rule := range a.Accepts {
		pairs = append(pairs, fmt.Sprintf("rule %d accepts", i+1), rule)
	}
	if len(a.AllowLicences) > 0 {
		pairs = append(pairs, "licences allowed", strings.Join(a.AllowLicences, ", "))
	}
	if len(a.RefuseLicences) > 0 {
		pairs = append(pairs, "licences refused", strings.Join(a.RefuseLicences, ", "))
	}
	if a.UnstatedLicence != "let-in" {
		pairs = append(pairs, "without a licence", map[string]string{"await": "awaits a decision",
			"refuse": "refused"}[a.UnstatedLicence])
	}
	return pairs
}
