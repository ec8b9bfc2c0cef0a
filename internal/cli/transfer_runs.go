package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"crelvo/internal/api"
	"crelvo/internal/client"
)

// beginTransfer has the server do a transfer, and follows it to its end.
func beginTransfer(s *session, cmd *cobra.Command, c *client.Client, n api.NewTransferRun, wait bool) error {
	t, err := c.BeginTransfer(cmd.Context(), n)
	if err != nil {
		return err
	}
	w := cmd.OutOrStdout()
	if !wait {
		return s.show(w, t, func() {
			fmt.Fprintf(w, "Transfer %d has begun: crelvo transfer show %[1]d tells how far it is.\n", t.ID)
		})
	}
	if t, err = followTransfer(cmd, c, t); err != nil {
		return err
	}
	report, err := readTransfer(cmd.Context(), c, t)
	if err != nil {
		return err
	}
	if err := s.show(w, report, func() { showTransferRun(w, report) }); err != nil {
		return err
	}
	if t.State != "done" || t.Refused.Versions+t.Failed.Versions > 0 {
		return silent(exitFailed)
	}
	return nil
}

// followTransfer tells how far a transfer is until it has ended.
func followTransfer(cmd *cobra.Command, c *client.Client, t api.TransferRun) (api.TransferRun, error) {
	w, told, wait := cmd.ErrOrStderr(), time.Now(), 100*time.Millisecond
	for t.EndedAt == nil {
		select {
		case <-cmd.Context().Done():
			fmt.Fprintf(w, "Transfer %d goes on at the server. crelvo transfer show %[1]d tells how far it is, and crelvo\n"+
				"transfer stop %[1]d stops it.\n", t.ID)
			return t, cmd.Context().Err()
		case <-time.After(wait):
		}
		wait = min(2*wait, time.Second)
		var err error
		if t, err = c.Transfer(cmd.Context(), t.ID); err != nil && cmd.Context().Err() == nil {
			return t, err
		}
		if t.EndedAt == nil && time.Since(told) >= tellEvery {
			told = time.Now()
			fmt.Fprintln(w, transferProgress(t))
		}
	}
	return t, nil
}

// transferProgress is how far a transfer is, in a line.
func transferProgress(t api.TransferRun) string {
	switch t.State {
	case "planning":
		return fmt.Sprintf("Looked at %s.", count(t.Packages, "package"))
	case "checking":
		return "What came is compared with what it came from."
	}
	text := fmt.Sprintf("%d of %s", t.Came.Versions+t.Failed.Versions,
		count(t.ToCome.Versions+t.Came.Versions+t.Failed.Versions, "version"))
	if t.Fetched > 0 {
		rate := float64(t.Fetched) / max(time.Since(t.BegunAt).Seconds(), 1)
		text += fmt.Sprintf(", %s fetched, %s/s", api.Bytes(t.Fetched), api.Bytes(int64(rate)))
	}
	if t.Left != nil {
		text += ", " + (time.Duration(*t.Left) * time.Second).String() + " left"
	}
	return text
}

// transferReport is a transfer, with what would come by a plan, and what does not come.
type transferReport struct {
	api.TransferRun
	Planned []api.TransferItem `json:"planned,omitempty"`
	Outside []api.TransferItem `json:"outside"`
}

// readTransfer reads what becomes of the versions of a transfer, as far as somebody wants to see that.
func readTransfer(ctx context.Context, c *client.Client, t api.TransferRun) (r transferReport, err error) {
	r = transferReport{TransferRun: t, Outside: []api.TransferItem{}}
	read := func(state string, into *[]api.TransferItem) error {
		for {
			after := 0
			if n := len(*into); n > 0 {
				after = (*into)[n-1].N
			}
			some, err := c.TransferItems(ctx, t.ID, state, after)
			if err != nil {
				return err
			}
			if *into = append(*into, some.Items...); !some.More {
				return nil
			}
		}
	}
	if t.DryRun {
		err = read("new", &r.Planned)
	}
	return r, errors.Join(err, read("outside", &r.Outside))
}

func showTransferRun(w io.Writer, t transferReport) {
	if t.EndedAt == nil {
		fmt.Fprintln(w, transferProgress(t.TransferRun))
	}
	line := func(what string, c api.TransferCount, travels string) {
		if c.Versions == 0 {
			return
		}
		fmt.Fprintf(w, "%s %s, %s", what, count(c.Versions, "version"), api.Bytes(c.Bytes))
		if travels != "" && c.Travels > 0 {
			fmt.Fprintf(w, travels, api.Bytes(c.Travels))
		}
		fmt.Fprintln(w)
	}
	line("To come:      ", t.ToCome, ", of which %s are to be fetched")
	line("Came:         ", t.Came, "")
	line("There already:", t.There, "")
	line("Not taken:    ", t.Refused, "")
	line("Failed:       ", t.Failed, "")
	switch {
	case t.State == "failed":
		fmt.Fprintf(w, "It failed: %s\n", t.Why)
	case t.EndedAt == nil && t.Why != "":
		fmt.Fprintf(w, "It waits, and is tried again every half minute: %s\n", t.Why)
	case t.State == "stopped":
		fmt.Fprintln(w, "It was stopped. What came stays; the same command goes on.")
	case t.EndedAt != nil && t.ToCome.Versions+t.Came.Versions+t.There.Versions+t.Refused.Versions+t.Failed.Versions == 0:
		fmt.Fprintf(w, "There is nothing of that in %s.\n", t.From)
	}
	var rows [][]string
	for _, item := range t.Planned {
		size := "not stated"
		if item.Bytes > 0 {
			size = api.Bytes(item.Bytes)
		}
		rows = append(rows, []string{itemName(item), count(item.Files, "file"), size})
	}
	if rows != nil {
		fmt.Fprintln(w)
		table(w, []string{"TO COME", "FILES", "SIZE"}, []int{2}, rows)
	}
	rows = nil
	for _, item := range t.Outside {
		rows = append(rows, []string{itemName(item), item.Why})
	}
	if rows != nil {
		fmt.Fprintln(w)
		table(w, []string{"DOES NOT COME", "WHY"}, nil, rows)
	}
}

func itemName(item api.TransferItem) string {
	if item.Upload != "" {
		return item.PURL + " (" + item.Upload + ")"
	}
	return item.PURL
}

func transferList(s *session) *cobra.Command {
	return &cobra.Command{Use: "list", Short: "List transfers between repositories, the last one first",
		Args: arguments(cobra.NoArgs), Example: "  crelvo transfer list",
		RunE: func(cmd *cobra.Command, _ []string) error {
			return answer(s, cmd, func(ctx context.Context, c *client.Client) ([]api.TransferRun, error) {
				return c.Transfers(ctx)
			}, func(w io.Writer, all []api.TransferRun) {
				var rows [][]string
				for _, t := range all {
					state := t.State
					if t.DryRun && state == "done" {
						state = "planned"
					}
					rows = append(rows, []string{strconv.FormatInt(t.ID, 10), t.From, t.To, state, strconv.Itoa(t.ToCome.Versions),
						strconv.Itoa(t.Came.Versions), strconv.Itoa(t.There.Versions),
						strconv.Itoa(t.Refused.Versions + t.Failed.Versions), timeText(t.BegunAt), t.By})
				}
				table(w, []string{"ID", "FROM", "TO", "STATE", "TO COME", "CAME", "THERE", "NOT", "BEGUN", "BY"},
					[]int{4, 5, 6, 7}, rows)
			})
		}}
}

func transferID(text string) (int64, error) {
	id, err := strconv.ParseInt(text, 10, 64)
	if err != nil {
		return 0, usageError{fmt.Errorf("%q is no number of a transfer; crelvo transfer list shows them", text)}
	}
	return id, nil
}

func transferShow(s *session) *cobra.Command {
	return &cobra.Command{Use: "show ID", Short: "Show how far a transfer is, and what does not come",
		Args: arguments(cobra.ExactArgs(1)), Example: "  crelvo transfer show 1",
		RunE: func(cmd *cobra.Command, args []string) error {
			id, err := transferID(args[0])
			if err != nil {
				return err
			}
			return answer(s, cmd, func(ctx context.Context, c *client.Client) (transferReport, error) {
				t, err := c.Transfer(ctx, id)
				if err != nil {
					return transferReport{}, err
				}
				return readTransfer(ctx, c, t)
			}, func(w io.Writer, t transferReport) {
				fields(w, "from", t.From, "to", t.To, "only", orNone(t.Only, "everything"), "state", t.State,
					"begun", timeText(t.BegunAt)+" by "+t.By, "ended", optionalTime(t.EndedAt, "not yet"))
				fmt.Fprintln(w)
				showTransferRun(w, t)
			})
		}}
}

func transferStop(s *session) *cobra.Command {
	return &cobra.Command{Use: "stop ID", Short: "Stop a transfer; what came stays", Args: arguments(cobra.ExactArgs(1)),
		Example: "  crelvo transfer stop 1",
		RunE: func(cmd *cobra.Command, args []string) error {
			id, err := transferID(args[0])
			if err != nil {
				return err
			}
			return answer(s, cmd, func(ctx context.Context, c *client.Client) (api.TransferRun, error) {
				return c.StopTransfer(ctx, id)
			}, func(w io.Writer, t api.TransferRun) {
				fmt.Fprintf(w, "Stopped transfer %d. %s came.\n", t.ID, count(t.Came.Versions, "version"))
			})
		}}
}

// isPath tells whether what is to be taken lies on this machine, or should: what is not there, and could be
// the name of a repository, is one.
func isPath(from string) bool {
	_, err := os.Stat(from)
	return err == nil || strings.ContainsAny(from, `/\`)
}
