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
	"crelvo/internal/core/promotion"
	"crelvo/internal/core/purl"
)

func promoteCommand(s *session) *cobra.Command {
	var n api.NewPromotion
	var notesFile, wait string
	cmd := &cobra.Command{Use: "promote [PURL…]", Short: "Promote a build or versions along a track: all or nothing",
		Args: arguments(cobra.ArbitraryArgs),
		Long: "Promote a build, or versions, from a stage of a track to the next one: all of it becomes visible there\n" +
			"together, or nothing does. Snapshots that go where releases are kept get the release's version in every\n" +
			"file that states it. --dry-run says what would happen, and why not if it cannot.",
		Example: "  crelvo promote --build 'berth-planner#118' --along ferry --to staging --dry-run\n" +
			"  crelvo promote --build 'berth-planner#118' --along ferry --to releases --as 1.5.0 --notes 'Faster in fog.'\n" +
			"  crelvo promote pkg:npm/@skerry/deck-ui@2.2.0-dev.61 --along ferry --to staging --wait 30m",
		RunE: func(cmd *cobra.Command, args []string) error {
			n.PURLs = args
			if n.Track == "" {
				return usageError{fmt.Errorf("say along which track: --along TRACK")}
			}
			if (n.Build == "") == (len(args) == 0) {
				return usageError{fmt.Errorf("say what: --build NAME#NUMBER, or package URLs with versions")}
			}
			if n.To == "" && !isTerminal(cmd.OutOrStdout()) {
				return usageError{
					fmt.Errorf("say to which stage: --to REPOSITORY; only on a terminal is it the next one, so that a script that " +
						"runs twice does not go on to the one after")}
			}
			limit := time.Duration(0)
			if wait != "" {
				var err error
				if limit, err = parseDuration(wait); err != nil {
					return usageError{fmt.Errorf("--wait: %w", err)}
				}
			}
			if notesFile != "" {
				raw, err := os.ReadFile(notesFile)
				if err != nil {
					return err
				}
				n.Notes = string(raw)
			}
			c, err := s.client()
			if err != nil {
				return err
			}
			p, err := c.Promote(cmd.Context(), n)
			if err != nil {
				return err
			}
			if p.PromotionPage, err = s.follow(cmd, c, p.PromotionPage, limit, n.DryRun); err != nil {
				return err
			}
			w := cmd.OutOrStdout()
			if err := s.show(w, p, func() {
				if p.Already {
					fmt.Fprintf(w, "It was asked for before; nothing new was begun.\n")
				}
				showPromotion(w, p, n.DryRun && !p.Already)
			}); err != nil {
				return err
			}
			return endOf(p.Promotion, wait != "")
		}}
	f := cmd.Flags()
	f.StringVar(&n.Build, "build", "", "the build, as NAME#NUMBER")
	f.StringVar(&n.Track, "along", "", "the track")
	f.StringVar(&n.To, "to", "", "the stage to promote to; the next one if it is left out")
	f.StringArrayVar(&n.As, "as", nil,
		"the version that snapshots become, or PURL@VERSION for one of them; may be repeated")
	f.StringVar(&n.Notes, "notes", "", "release notes")
	f.StringVar(&notesFile, "notes-file", "", "a file with release notes")
	f.BoolVar(&n.GoOn, "go-on", false,
		"go on although something cannot be changed without breaking it, such as a signed archive")
	f.StringVar(&wait, "wait", "",
		"wait up to so long, such as 30m, for a promotion that waits for somebody; if it still does then, the exit code is 6")
	f.BoolVar(&n.DryRun, "dry-run", false, "only say what would happen")
	must(cmd.RegisterFlagCompletionFunc("along", s.completeTracks))
	must(cmd.RegisterFlagCompletionFunc("to", s.completeRepositories))
	return cmd
}

// follow looks at a promotion until it has ended or, if it waits for somebody, until
// the limit.
func (s *session) follow(
	cmd *cobra.Command, c *client.Client, p api.PromotionPage, limit time.Duration, dryRun bool,
) (api.PromotionPage, error) {
	deadline := time.Now().Add(limit)
	said := ""
	for !dryRun && (p.State == "underway" || p.State == "waiting" && time.Now().Before(deadline)) {
		now := fmt.Sprintf("promotion %d waits: %s", p.ID, waitsFor(p.Promotion))
		if p.State == "underway" {
			now = fmt.Sprintf("promotion %d: %d of %d files", p.ID, p.FilesDone, p.Files)
		}
		if now != said {
			fmt.Fprintln(cmd.ErrOrStderr(), now)
			said = now
		}
		select {
		case <-cmd.Context().Done():
			return p, cmd.Context().Err()
		case <-time.After(time.Second): // between two looks at it
		}
		var err error
		if p, err = c.Promotion(cmd.Context(), p.ID); err != nil {
			return p, err
		}
	}
	return p, nil
}

// waitsFor says for whom or what a promotion waits.
func waitsFor(p api.Promotion) string {
	var all []string
	for _, a := range p.Answers {
		if a.State == promotion.Waiting {
			all = append(all, a.Facts...)
		}
	}
	return strings.Join(all, "; ")
}

// endOf is the exit code of a command about a promotion.
func endOf(p api.Promotion, waited bool) error {
	switch {
	case p.State == "failed" || p.State == "refused" || p.State == "cancelled":
		return silent(exitFailed)
	case p.State == "waiting" && waited:
		return silent(exitWaits)
	}
	return nil
}

// completeTracks completes names of tracks.
func (s *session) completeTracks(cmd *cobra.Command, _ []string, _ string) ([]string, cobra.ShellCompDirective) {
	c, err := s.client()
	if err != nil {
		return nil, cobra.ShellCompDirectiveError
	}
	all, err := c.Tracks(cmd.Context())
	if err != nil {
		return nil, cobra.ShellCompDirectiveError
	}
	var names []string
	for _, t := range all {
		names = append(names, t.Name)
	}
	return names, cobra.ShellCompDirectiveNoFileComp
}

// showPromotion shows a promotion, or what one would do.
func showPromotion(w io.Writer, p api.AskedPromotion, dryRun bool) {
	head := fmt.Sprintf("Promotion %d", p.ID)
	state := map[string]string{"done": "done", "waiting": "waits", "failed": "failed; nothing was moved",
		"refused":   "refused; nothing was moved",
		"cancelled": "cancelled; nothing was moved", "undone": "undone", "underway": "underway"}[p.State]
	if dryRun {
		head = "Dry run; nothing was changed"
		state = map[string]string{"done": "would be done at once", "waiting": "would wait", "failed": "would fail"}[p.State]
	}
	if waits := waitsFor(p.Promotion); p.State == "waiting" && waits != "" {
		state += ": " + waits
	}
	fmt.Fprintf(w, "%s: %s → %s along %s %s.\n", head, p.From, p.To, p.Track, state)
	pairs := []string{"build", p.Build, "asked by", p.AskedBy + " at " + timeText(p.AskedAt)}
	if p.EndedAt != nil {
		pairs = append(pairs, "ended", timeText(*p.EndedAt))
	}
	pairs = append(pairs, "signed with", p.SignWith, "restamped too", strings.Join(p.Restamps, ", "))
	if p.UndoneAt != nil {
		pairs = append(pairs, "undone by", p.UndoneBy+" at "+timeText(*p.UndoneAt), "reason", p.UndoReason)
	}
	if !dryRun {
		fields(w, pairs...)
	}
	if p.Notes != "" {
		fmt.Fprintf(w, "\n%s\n", strings.TrimSpace(p.Notes))
	}
	showPlan(w, p.PromotionPage, dryRun)
	if len(p.Answers) > 0 {
		fmt.Fprintln(w, "\nGates")
		var rows [][]string
		for _, a := range p.Answers {
			for i, fact := range append(a.Facts, "")[:max(1, len(a.Facts))] {
				row := []string{"", "", fact}
				if i == 0 {
					row[0], row[1] = string(a.State), a.Sentence
				}
				rows = append(rows, row)
			}
		}
		table(w, []string{"SAYS", "GATE", "FACT"}, nil, rows)
	}
	why := p.Problems
	if p.Why != "" && !dryRun {
		why = strings.Split(p.Why, "\n")
	}
	if len(why) > 0 {
		fmt.Fprintln(w, "\nWhy not")
		for _, line := range why {
			fmt.Fprintln(w, "  "+line)
		}
	}
	if len(p.Deliveries) > 0 {
		fmt.Fprintln(w, "\nSent on")
		var rows [][]string
		for _, d := range p.Deliveries {
			rows = append(rows, []string{d.PURL, d.Target, d.State, strconv.Itoa(d.Attempts), d.Said})
		}
		table(w, []string{"VERSION", "DESTINATION", "STATE", "ATTEMPTS", "LAST ANSWER"}, []int{3}, rows)
	}
	if len(p.Next) > 0 && p.State == "done" && !dryRun {
		fmt.Fprintln(w, "\nGo on with")
		for _, name := range sortedKeys(p.Next) {
			fmt.Fprintf(w, "  %s@%s\n", name, p.Next[name])
		}
	}
}

// showPlan shows what becomes of versions and files; what changes inside only in a
// dry run.
func showPlan(w io.Writer, p api.PromotionPage, dryRun bool) {
	if len(p.Planned) == 0 {
		return
	}
	fmt.Fprintln(w)
	var rows [][]string
	for _, v := range p.Planned {
		if v.LeftOut != "" {
			rows = append(rows, []string{v.PURL, "stays behind", "", ""})
			continue
		}
		bytes := "none"
		if v.NewBytes > 0 {
			bytes = api.Bytes(v.NewBytes)
		}
		rows = append(rows, []string{v.PURL, purl.ShortVersion(v.To), strconv.Itoa(len(v.Files)), bytes})
	}
	table(w, []string{"VERSION", "BECOMES", "FILES", "NEW BYTES"}, []int{2, 3}, rows)
	if !dryRun {
		return
	}
	for _, v := range p.Planned {
		if v.LeftOut != "" {
			fmt.Fprintf(w, "\n%s stays behind: %s\n", purl.Typed(v.PURL), v.LeftOut)
		}
		for _, f := range v.Files {
			line := f.Name
			switch {
			case f.Dropped != "":
				line += " is left behind: " + f.Dropped
			case f.To != f.Name:
				line += " → " + f.To
			case len(f.Changes) == 0 && !f.Signed:
				continue
			}
			if f.Signed {
				line += ", with a new signature"
			}
			fmt.Fprintln(w, "\n"+line)
			for _, c := range f.Changes {
				where := c.What
				if c.Entry != "" {
					where = c.Entry + ": " + c.What
				}
				fmt.Fprintf(w, "  %s\n    - %s\n    + %s\n", where, c.Old, c.New)
			}
			if len(f.Mentions) > 0 {
				fmt.Fprintf(w, "  stays, and names the old version: %s\n", strings.Join(f.Mentions, ", "))
			}
		}
	}
}

func promotionCommand(s *session) *cobra.Command {
	return group("promotion", "List, show, approve, refuse, cancel and undo promotions", promotionList(s),
		promotionShow(s),
		promotionAct(s, "approve ID", "Approve a promotion that waits; the exit code is not 0 if the promotion then fails",
			"comment", "for the record", func(ctx context.Context, c *client.Client, id int64, text string) (api.PromotionPage,
				error) {
				return c.Decide(ctx, id, api.Say{Approve: true, Comment: text})
			}),
		promotionAct(s, "refuse ID", "Refuse a promotion that waits", "comment", "why; needed",
			func(ctx context.Context, c *client.Client, id int64, text string) (api.PromotionPage, error) {
				return c.Decide(ctx, id, api.Say{Comment: text})
			}),
		promotionAct(s, "cancel ID", "End a promotion that waits", "reason", "for the record",
			func(ctx context.Context, c *client.Client, id int64, text string) (api.PromotionPage, error) {
				return c.CancelPromotion(ctx, id, text)
			}),
		promotionAct(s, "undo ID", "Take a promotion back", "reason", "needed once somebody has downloaded it",
			func(ctx context.Context, c *client.Client, id int64, text string) (api.PromotionPage, error) {
				return c.UndoPromotion(ctx, id, text)
			}),
		promotionAct(s, "send ID", "Try again to send on what failed", "", "",
			func(ctx context.Context, c *client.Client, id int64, _ string) (api.PromotionPage, error) {
				return c.SendOnAgain(ctx, id)
			}))
}

func promotionID(arg string) (int64, error) {
	id, err := strconv.ParseInt(arg, 10, 64)
	if err != nil {
		return 0, usageError{fmt.Errorf("%q is no number of a promotion; crelvo promotion list shows them", arg)}
	}
	return id, nil
}

// promotionAct is a command that does something to one promotion.
func promotionAct(
	s *session, use, short, flag, means string, do func(ctx context.Context, c *client.Client, id int64,
		text string) (api.PromotionPage, error),
) *cobra.Command {
	var text string
	cmd := &cobra.Command{Use: use, Short: short, Args: arguments(cobra.ExactArgs(1)),
		RunE: func(cmd *cobra.Command, args []string) error {
			id, err := promotionID(args[0])
			if err != nil {
				return err
			}
			var after api.PromotionPage
			if err := answer(s, cmd, func(ctx context.Context, c *client.Client) (api.PromotionPage, error) {
				p, err := do(ctx, c, id, text)
				if err == nil {
					p, err = s.follow(cmd, c, p, 0, false)
				}
				after = p
				return p, err
			}, func(w io.Writer, p api.PromotionPage) {
				showPromotion(w, api.AskedPromotion{PromotionPage: p}, false)
			}); err != nil {
				return err
			}
			if strings.HasPrefix(use, "approve") {
				return endOf(after.Promotion, false)
			}
			return nil
		}}
	if flag != "" {
		cmd.Flags().StringVar(&text, flag, "", means)
	}
	return cmd
}

func promotionShow(s *session) *cobra.Command {
	var inside bool
	cmd := &cobra.Command{Use: "show ID", Short: "Show a promotion: versions, gates, approvals, and what was sent on",
		Args: arguments(cobra.ExactArgs(1)), RunE: func(cmd *cobra.Command, args []string) error {
			id, err := promotionID(args[0])
			if err != nil {
				return err
			}
			return answer(s, cmd, func(ctx context.Context, c *client.Client) (api.PromotionPage, error) {
				return c.Promotion(ctx, id)
			},
				func(w io.Writer, p api.PromotionPage) {
					showPromotion(w, api.AskedPromotion{PromotionPage: p}, false)
					if inside {
						showPlan(w, p, true)
					}
					for _, v := range p.Votes {
						what := "approved"
						if !v.Approve {
							what = "refused"
						}
						fmt.Fprintf(w, "\n%s %s it at %s", v.Who, what, timeText(v.At))
						if v.Comment != "" {
							fmt.Fprintf(w, ": %s", v.Comment)
						}
						fmt.Fprintln(w)
					}
				})
		}}
	cmd.Flags().BoolVar(&inside, "files", false, "also what was changed inside of files")
	return cmd
}

func promotionRows(w io.Writer, all []api.Promotion) {
	var rows [][]string
	for _, p := range all {
		var names []string
		for _, v := range p.Versions {
			name := v.PURL[strings.LastIndexByte(v.PURL, '/')+1:]
			name, _, _ = strings.Cut(name, "@")
			names = append(names, name+" "+purl.ShortVersion(v.To))
		}
		if len(names) > 3 {
			names = append(names[:3], fmt.Sprintf("and %d more", len(names)-3))
		}
		rows = append(rows, []string{strconv.FormatInt(p.ID, 10), timeText(p.AskedAt), p.State, p.From + " → " + p.To,
			cmp.Or(p.Build, "-"), p.AskedBy, strings.Join(names, ", ")})
	}
	table(w, []string{"ID", "ASKED", "STATE", "HOP", "BUILD", "BY", "VERSIONS"}, []int{0}, rows)
}

func promotionList(s *session) *cobra.Command {
	var track, to, state, by, words, since string
	var mine bool
	var limit int
	cmd := &cobra.Command{Use: "list", Short: "List promotions, the newest first", Args: arguments(cobra.NoArgs),
		Example: "  crelvo promotion list --waiting-for-me\n  crelvo promotion list --to releases --since 7d",
		RunE: func(cmd *cobra.Command, _ []string) error {
			query := url.Values{"track": {track}, "to": {to}, "state": {state}, "by": {by}, "q": {words},
				"limit": {strconv.Itoa(limit)}}
			if mine {
				query.Set("mine", "true")
			}
			if since != "" {
				at, err := parseSince(since)
				if err != nil {
					return err
				}
				query.Set("since", at.UTC().Format(time.RFC3339))
			}
			return answer(s, cmd, func(ctx context.Context, c *client.Client) (api.PromotionList, error) {
				return c.Promotions(ctx, query)
			}, func(w io.Writer, page api.PromotionList) { promotionRows(w, page.Promotions) })
		}}
	f := cmd.Flags()
	f.StringVar(&track, "along", "", "only along this track")
	f.StringVar(&to, "to", "", "only into this repository")
	f.StringVar(&state, "state", "", "only in this state: waiting, underway, done, failed, refused, cancelled or undone")
	f.StringVar(&by, "by", "", "only asked for by this user or robot")
	f.StringVar(&words, "about", "", "only with this in the name of a package, of the build, or in the notes")
	f.StringVar(&since, "since", "", "only since "+catalog.MomentForms)
	f.BoolVar(&mine, "waiting-for-me", false, "only those that wait for your approval")
	f.IntVar(&limit, "limit", 50, "at most so many, up to 500")
	must(cmd.RegisterFlagCompletionFunc("along", s.completeTracks))
	must(cmd.RegisterFlagCompletionFunc("to", s.completeRepositories))
	must(cmd.RegisterFlagCompletionFunc("state", fixed("waiting", "underway", "done", "failed", "refused", "cancelled",
		"undone")))
	return cmd
}

func repoArrivals(s *session) *cobra.Command {
	var since string
	cmd := &cobra.Command{Use: "arrivals NAME", Short: "Tell what came into a repository, and who let it in",
		Args: arguments(cobra.ExactArgs(1)), ValidArgsFunction: s.completeRepositories,
		Example: "  crelvo repo arrivals releases --since 7d",
		RunE: func(cmd *cobra.Command, args []string) error {
			at, err := parseSince(since)
			if err != nil {
				return err
			}
			return answer(s, cmd, func(ctx context.Context, c *client.Client) ([]api.Arrival, error) {
				return c.Arrivals(ctx, args[0], at)
			}, func(w io.Writer, all []api.Arrival) {
				if len(all) == 0 {
					fmt.Fprintf(w, "Nothing came into %s since %s.\n", args[0], timeText(at))
					return
				}
				var rows [][]string
				for _, a := range all {
					how, by := "published", a.By
					if a.Promotion != 0 {
						how, by = fmt.Sprintf("promotion %d", a.Promotion), a.AskedBy
					}
					rows = append(rows, []string{a.PURL, timeText(a.At), how, by, cmp.Or(a.Approvers, "-"), cmp.Or(a.Build, "-")})
				}
				table(w, []string{"VERSION", "SINCE", "HOW", "BY", "APPROVED BY", "BUILD"}, nil, rows)
			})
		}}
	cmd.Flags().StringVar(&since, "since", "7d", "since when: "+catalog.MomentForms)
	return cmd
}
