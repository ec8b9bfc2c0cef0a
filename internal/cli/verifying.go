package cli

import (
	"context"
	"fmt"
	"io"
	"strconv"
	"time"

	"github.com/spf13/cobra"

	"crelvo/internal/api"
	"crelvo/internal/client"
)

func verifyCommand(s *session) *cobra.Command {
	var records, repair, wait bool
	cmd := &cobra.Command{Use: "verify",
		Short: "Read all stored bytes and compare them with what they should be", Args: arguments(cobra.NoArgs),
		Long: "Read all stored bytes, in every store, and compare them with what they should be. It goes on in the\n" +
			"background, slowly enough for others, and after a restart; by itself it is done every month. With --repair,\n" +
			"what is damaged is mended from another store, or from the upstream of its mirror, and bytes that no record\n" +
			"knows of are dropped. What cannot be mended is listed, with what it belongs to; publishing the very same\n" +
			"bytes again mends it too.\n\n" +
			"With --records, counts, labels and marks are compared with the versions and files that they are about, and\n" +
			"put right; that also happens every night.",
		Example: "  crelvo verify --wait\n" +
			"  crelvo verify --repair --wait\n" +
			"  crelvo verify --records",
		RunE: func(cmd *cobra.Command, _ []string) error {
			if records {
				return verifyRecords(s, cmd)
			}
			c, err := s.client()
			if err != nil {
				return err
			}
			v, err := c.Verify(cmd.Context(), repair)
			if err != nil {
				return err
			}
			if repair && !v.Repair {
				fmt.Fprintf(cmd.ErrOrStderr(), "A run that %s began without --repair is under way; begin again when it has ended.\n",
					v.By)
			}
			if wait {
				if v, err = waitForVerification(cmd, c, v); err != nil {
					return err
				}
			}
			if err := answer(s, cmd, func(context.Context, *client.Client) (api.Verification, error) {
				return v, nil
			}, showVerification); err != nil {
				return err
			}
			return s.tellDamages(cmd, c, wait)
		}}
	cmd.Flags().BoolVar(&records, "records", false, "compare counts, labels and marks, and put them right")
	cmd.Flags().BoolVar(&repair, "repair", false, "mend what is damaged, and drop what no record knows of")
	cmd.Flags().BoolVar(&wait, "wait", false, "wait until all of it was read")
	cmd.MarkFlagsMutuallyExclusive("records", "repair")
	cmd.MarkFlagsMutuallyExclusive("records", "wait")
	return cmd
}

func showVerification(w io.Writer, v api.Verification) {
	state := "under way"
	switch {
	case v.EndedAt != nil:
		state = "ended " + timeText(*v.EndedAt)
	case v.Waits != "":
		state = v.Waits
	}
	fields(w, "begun", timeText(v.BegunAt)+" by "+v.By, "state", state, "mends", yesNo(v.Repair),
		"read", fmt.Sprintf("%d of %d files, %s of %s", v.Files, v.AllFiles, api.Bytes(v.Bytes), api.Bytes(v.AllBytes)),
		"damaged", strconv.FormatInt(v.Damaged, 10), "mended", strconv.FormatInt(v.Mended, 10),
		"unknown", strconv.FormatInt(v.Unknown, 10))
}

// waitForVerification shows how far a run is until it has ended.
func waitForVerification(cmd *cobra.Command, c *client.Client, v api.Verification) (api.Verification, error) {
	last := ""
	for v.EndedAt == nil {
		line := fmt.Sprintf("%d of %d files, %s of %s", v.Files, v.AllFiles, api.Bytes(v.Bytes), api.Bytes(v.AllBytes))
		if v.Waits != "" {
			line += "; " + v.Waits
		}
		if line != last {
			fmt.Fprintln(cmd.ErrOrStderr(), line)
			last = line
		}
		select {
		case <-cmd.Context().Done():
			return v, cmd.Context().Err()
		case <-time.After(time.Second):
		}
		all, err := c.Verifications(cmd.Context())
		if err != nil {
			return v, err
		}
		for _, run := range all {
			if run.ID == v.ID {
				v = run
			}
		}
	}
	return v, nil
}

// tellDamages lists what is damaged still, which is a failure for whoever waited.
func (s *session) tellDamages(cmd *cobra.Command, c *client.Client, waited bool) error {
	all, err := c.Damages(cmd.Context())
	if err != nil {
		return err
	}
	var rows [][]string
	open := 0
	for _, d := range all {
		if d.MendedAt != nil {
			continue
		}
		open++
		for _, of := range d.Of {
			rows = append(rows, []string{of.PURL, of.Repository, of.File, d.Store, d.What, of.By, of.Build})
		}
		if len(d.Of) == 0 {
			rows = append(rows, []string{"sha256:" + d.SHA256[:12], "", "", d.Store, d.What, "", ""})
		}
	}
	if open == 0 {
		return nil
	}
	fmt.Fprintln(cmd.ErrOrStderr())
	table(cmd.ErrOrStderr(), []string{"DAMAGED", "REPOSITORY", "FILE", "STORE", "WHAT", "BY", "BUILD"}, nil, rows)
	if waited {
		return fmt.Errorf("%d stored files are damaged; publish the very same bytes again, or bring them back from a backup",
			open)
	}
	return nil
}

func verifyRecords(s *session, cmd *cobra.Command) error {
	return answer(s, cmd, func(ctx context.Context, c *client.Client) ([]api.Mended, error) {
		return c.VerifyRecords(ctx)
	}, func(w io.Writer, mended []api.Mended) {
		if len(mended) == 0 {
			fmt.Fprintln(w, "All records agree with each other.")
			return
		}
		var rows [][]string
		for _, m := range mended {
			rows = append(rows, []string{strconv.FormatInt(m.Count, 10), m.What, m.Sample})
		}
		table(w, []string{"PUT RIGHT", "WHAT", "SUCH AS"}, []int{0}, rows)
	})
}
