package cli

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"crelvo/internal/api"
	"crelvo/internal/client"
)

func trackCommand(s *session) *cobra.Command {
	return group("track", "List, show, make, change and remove tracks", trackList(s), trackShow(s), trackAdd(s),
		trackEdit(s), trackRemove(s))
}

func stageNames(t api.Track) string {
	var names []string
	for _, stage := range t.Stages {
		names = append(names, stage.Repository)
	}
	return strings.Join(names, " → ")
}

func trackList(s *session) *cobra.Command {
	return &cobra.Command{Use: "list", Short: "List tracks", Args: arguments(cobra.NoArgs),
		RunE: func(cmd *cobra.Command, _ []string) error {
			return answer(s, cmd, func(ctx context.Context, c *client.Client) ([]api.Track, error) {
				return c.Tracks(ctx)
			}, func(w io.Writer, all []api.Track) {
				var rows [][]string
				for _, t := range all {
					gates := 0
					for _, stage := range t.Stages {
						gates += len(stage.Gates)
					}
					rows = append(rows, []string{t.Name, stageNames(t), strconv.Itoa(gates), t.Description})
				}
				table(w, []string{"NAME", "STAGES", "GATES", "DESCRIPTION"}, []int{2}, rows)
			})
		}}
}

func trackShow(s *session) *cobra.Command {
	return &cobra.Command{Use: "show NAME", Short: "Show a track: its gates, what stands where, and what waits",
		Args: arguments(cobra.ExactArgs(1)), ValidArgsFunction: s.completeTracks,
		RunE: func(cmd *cobra.Command, args []string) error {
			return answer(s, cmd, func(ctx context.Context, c *client.Client) (api.TrackPicture, error) {
				return c.Track(ctx, args[0])
			}, func(w io.Writer, t api.TrackPicture) {
				fields(w, "track", t.Name, "stages", stageNames(t.Track), "description", t.Description)
				for _, stage := range t.Stages {
					fmt.Fprintf(w, "\n%s\n", stage.Repository)
					for _, gate := range stage.Gates {
						fmt.Fprintln(w, "  gate  "+gate)
					}
					if stage.SignWith != "" {
						fmt.Fprintln(w, "  signed with  "+stage.SignWith)
					}
					if len(stage.Restamps) > 0 {
						fmt.Fprintln(w, "  restamped too  "+strings.Join(stage.Restamps, ", "))
					}
					if len(stage.Onward) > 0 {
						fmt.Fprintln(w, "  goes on to  "+strings.Join(stage.Onward, ", "))
					}
					for _, stand := range t.Standings {
						if stand.Repository != stage.Repository {
							continue
						}
						what := cmp.Or(stand.Build, stand.Name)
						moved := ""
						if stand.MovedOn {
							moved = "  went further"
						}
						fmt.Fprintf(w, "  %-22s %-18s %-11s %s%s\n", what, stand.Version, count(stand.Versions, "version"),
							timeText(stand.At), moved)
					}
				}
				if len(t.Waiting) > 0 {
					fmt.Fprintln(w, "\nNot done yet")
					promotionRows(w, t.Waiting)
				}
			})
		}}
}

func trackAdd(s *session) *cobra.Command {
	var stages []string
	t := api.Track{}
	cmd := &cobra.Command{Use: "add NAME", Short: "Make a track", Args: arguments(cobra.ExactArgs(1)),
		Example: "  crelvo track add ferry --stages snapshots,staging,releases",
		RunE: func(cmd *cobra.Command, args []string) error {
			t.Name = args[0]
			for _, name := range stages {
				t.Stages = append(t.Stages, api.Stage{Repository: name})
			}
			return s.once(cmd, func(ctx context.Context, c *client.Client) error {
				return c.AddTrack(ctx, t)
			}, func(ctx context.Context, c *client.Client) (bool, error) {
				all, err := c.Tracks(ctx)
				return slices.ContainsFunc(all, func(there api.Track) bool {
					return there.Name == t.Name && stageNames(there) == stageNames(t) &&
						(!cmd.Flags().Changed("description") || there.Description == t.Description)
				}), err
			}, "Made the track %s: %s. Put gates on it: crelvo track edit %s --into STAGE --gate GATE", t.Name,
				strings.Join(stages, " → "), t.Name)
		}}
	cmd.Flags().StringSliceVar(&stages, "stages", nil, "house repositories, in the order in which versions go")
	cmd.Flags().StringVar(&t.Description, "description", "", "what it is for")
	must(cmd.MarkFlagRequired("stages"))
	return cmd
}

func trackEdit(s *session) *cobra.Command {
	var stages, gates, onward, restamps []string
	var into, sign, description string
	cmd := &cobra.Command{Use: "edit NAME",
		Short: "Change the stages of a track, or what is asked for on the hop into one", Args: arguments(cobra.ExactArgs(1)),
		ValidArgsFunction: s.completeTracks,
		Long: "Change a track. With --into, the gates, key and targets that are given take the place of those of the\n" +
			"hop into that stage; \"\" takes them away. Gates are written:\n  " + strings.Join(gateForms, "\n  "),
		Example: "  crelvo track edit ferry --into staging --gate recorded-build --gate tests-passed\n" +
			"  crelvo track edit ferry --into releases --gate 'approved 1 by crew-office' --gate 'waited 3d' --sign-with " +
			"ferry-release\n" +
			"  crelvo track edit ferry --into releases --restamp image-labels --restamp 'text in *version.txt'",
		RunE: func(cmd *cobra.Command, args []string) error {
			changed := cmd.Flags().Changed
			if (changed("gate") || changed("sign-with") || changed("onward") || changed("restamp")) && into == "" {
				return usageError{fmt.Errorf("say the hop into which stage it is about: --into STAGE")}
			}
			return s.done(cmd, func(ctx context.Context, c *client.Client) error {
				all, err := c.Tracks(ctx)
				if err != nil {
					return err
				}
				i := slices.IndexFunc(all, func(t api.Track) bool { return t.Name == args[0] })
				if i < 0 {
					return &api.Problem{Status: 404, Detail: "there is no track " + args[0] + " that you may see"}
				}
				t := all[i]
				if changed("description") {
					t.Description = description
				}
				if changed("stages") {
					var kept []api.Stage
					for _, name := range stages {
						stage := api.Stage{Repository: name}
						if j := slices.IndexFunc(t.Stages, func(s api.Stage) bool { return s.Repository == name }); j >= 0 {
							stage = t.Stages[j]
						}
						kept = append(kept, stage)
					}
					t.Stages = kept
				}
				j := slices.IndexFunc(t.Stages, func(s api.Stage) bool { return s.Repository == into })
				if into != "" && j < 0 {
					return &api.Problem{Status: 404, Detail: into + " is no stage of " + args[0]}
				}
				given := func(list []string) []string { return slices.DeleteFunc(list, func(s string) bool { return s == "" }) }
				if changed("gate") {
					t.Stages[j].Gates = given(gates)
				}
				if changed("sign-with") {
					t.Stages[j].SignWith = sign
				}
				if changed("onward") {
					t.Stages[j].Onward = given(onward)
				}
				if changed("restamp") {
					t.Stages[j].Restamps = given(restampsOf(restamps))
				}
				for k := range t.Stages {
					t.Stages[k].Sentences, t.Stages[k].Seen, t.Stages[k].May = nil, false, false
				}
				return c.EditTrack(ctx, t)
			}, "Changed the track %s.", args[0])
		}}
	f := cmd.Flags()
	f.StringSliceVar(&stages, "stages", nil, "house repositories, in the order in which versions go")
	f.StringVar(&description, "description", "", "what it is for")
	f.StringVar(&into, "into", "", "the stage that the hop leads into")
	f.StringArrayVar(&gates, "gate", nil, "a gate; may be repeated")
	f.StringVar(&sign, "sign-with", "", "the key that files are signed with on the way")
	f.StringArrayVar(&restamps, "restamp", nil, "what is restamped that is left alone otherwise: image-labels (their "+
		"digest changes), image-references (in charts), 'text in PATTERN' or 'text in PATTERN: OLD -> NEW' (in files of "+
		"file sets); may be repeated")
	f.StringSliceVar(&onward, "onward", nil, "targets that versions go on to")
	must(cmd.RegisterFlagCompletionFunc("into", s.completeRepositories))
	must(cmd.RegisterFlagCompletionFunc("restamp", fixed("image-labels", "image-references", "text in ")))
	return cmd
}

// restampsOf takes words apart that are given with commas between them; texts may have commas.
func restampsOf(given []string) (all []string) {
	for _, some := range given {
		if strings.HasPrefix(some, "text in ") {
			all = append(all, some)
			continue
		}
		all = append(all, strings.Split(some, ",")...)
	}
	return all
}

func trackRemove(s *session) *cobra.Command {
	return &cobra.Command{Use: "remove NAME", Short: "Remove a track; the record of its promotions stays",
		Args: arguments(cobra.ExactArgs(1)), ValidArgsFunction: s.completeTracks,
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := s.confirm(cmd, "Remove the track "+args[0]+"?"); err != nil {
				return err
			}
			return s.done(cmd, func(ctx context.Context, c *client.Client) error {
				return c.RemoveTrack(ctx, args[0])
			}, "Removed the track %s.", args[0])
		}}
}
