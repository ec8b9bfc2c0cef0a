package cli

import (
	"errors"
	"fmt"
	"io"
	"os"
	"strings"
	"sync"
	"time"

	"github.com/spf13/cobra"

	"crelvo/internal/api"
	"crelvo/internal/client"
	"crelvo/internal/core/purl"
)

func transferCommand(s *session) *cobra.Command {
	var from, to, since string
	var only []string
	var dry, background bool
	var rate byteSize
	cmd := &cobra.Command{Use: "transfer --from FOLDER|REPO --to REPO",
		Short: "Take the packages of a folder, an archive or a repository to a repository", Args: arguments(cobra.NoArgs),
		Long: "Take the packages of a folder on this machine to a repository: a heap of package files, a Maven tree such as a\n" +
			"local repository, the cache of a package client, or an archive of such (.zip, .tar, .tar.gz). Or those of\n" +
			"another repository of the server, or of a server that a mirror here mirrors, which the server does by itself:\n" +
			"who does not wait for it can go (--background). Of another Crelvo only bytes travel that are nowhere here.\n\n" +
			"A plan comes first: what is new, what is there already, and what would not be taken, and why. What is there\n" +
			"already is not sent; the same command goes on where another one was ended. Each version becomes visible when\n" +
			"all of its files are there, and what arrived is compared with what is here. The exit code is 1 if something\n" +
			"did not come.",
		Example: "  crelvo transfer --from ~/.m2/repository --to releases --only 'pkg:maven/example.skerry*' --dry-run\n" +
			"  crelvo transfer --from /srv/old-packages --to releases\n" +
			"  crelvo transfer --from old-npm --to releases --only 'pkg:npm/@skerry/*' --rate 20MiB",
		RunE: func(cmd *cobra.Command, _ []string) (err error) {
			if from == "" || to == "" {
				return usageError{errors.New("say from where, and to which repository: --from FOLDER|REPO --to REPO")}
			}
			wish := client.TransferWish{To: to}
			if only, err = patternsOf(only); err != nil {
				return err
			}
			for _, text := range only {
				p, err := purl.ParsePattern(text)
				if err != nil {
					return usageError{err}
				}
				wish.Only = append(wish.Only, p)
			}
			if since != "" {
				if wish.Since, err = parseSince(since); err != nil {
					return err
				}
			}
			c, err := s.client()
			if err != nil {
				return err
			}
			if !isPath(from) {
				n := api.NewTransferRun{From: from, To: to, Only: only, DryRun: dry, BytesRate: int64(rate)}
				if !wish.Since.IsZero() {
					n.Since = &wish.Since
				}
				return beginTransfer(s, cmd, c, n, !background)
			}
			if background || rate > 0 {
				return usageError{fmt.Errorf("%s lies on this machine, and is sent from here: --background and --rate are for "+
					"repositories", from)}
			}
			return sendFolder(s, cmd, c, wish, from, dry)
		}}
	cmd.Flags().StringVar(&from, "from", "", "the folder or the archive that has the packages, or a repository")
	cmd.Flags().StringVar(&to, "to", "", "the repository that they go to")
	cmd.Flags().StringArrayVar(&only, "only", nil, "a pattern of those that are wanted, such as pkg:npm/@skerry/*, or @FILE with one a line; may be repeated")
	cmd.Flags().StringVar(&since, "since", "", "only what changed, or was published, since then: a date, a time, or how long ago, such as 7d")
	cmd.Flags().BoolVar(&dry, "dry-run", false, "only show the plan")
	cmd.Flags().BoolVar(&background, "background", false, "do not wait until the server has done it")
	cmd.Flags().Var(&rate, "rate", "how much a second the server fetches at most, such as 20MiB")
	must(cmd.RegisterFlagCompletionFunc("to", s.completeRepositories))
	cmd.AddCommand(transferList(s), transferShow(s), transferStop(s))
	return cmd
}

// patternsOf are patterns, of which @FILE stands for those in a file, one a line.
func patternsOf(texts []string) (all []string, err error) {
	for _, text := range texts {
		file, named := strings.CutPrefix(text, "@")
		if !named {
			all = append(all, text)
			continue
		}
		raw, err := os.ReadFile(file)
		if err != nil {
			return nil, err
		}
		for line := range strings.Lines(string(raw)) {
			if line = strings.TrimSpace(line); line != "" && !strings.HasPrefix(line, "#") {
				all = append(all, line)
			}
		}
	}
	return all, nil
}

// sendFolder takes the packages of a folder or archive on this machine to a repository.
func sendFolder(
	s *session, cmd *cobra.Command, c *client.Client, wish client.TransferWish, from string, dry bool,
) (err error) {
	folder, done, err := client.Unpacked(cmd.Context(), from)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, done()) }()
	wish.Folder = folder
	told := &transferTold{to: cmd.ErrOrStderr(), begun: time.Now(), said: time.Now()}
	plan, err := c.PlanTransfer(cmd.Context(), wish, told.looked)
	if err != nil {
		return err
	}
	plan.From = from
	n, _, travels := plan.Count(api.TransferNew)
	if !dry && n > 0 {
		told.begin(n, travels)
		if err := plan.Run(cmd.Context(), told.follow, told.came); err != nil {
			return err
		}
	}
	w := cmd.OutOrStdout()
	if err := s.show(w, plan.Transfer, func() { showTransfer(w, plan.Transfer, dry) }); err != nil {
		return err
	}
	refused, _, _ := plan.Count(api.TransferRefused)
	failed, _, _ := plan.Count(api.TransferFailed)
	if refused+failed > 0 {
		return silent(exitFailed)
	}
	return nil
}

// showTransfer tells of a plan, or of what came of it.
func showTransfer(w io.Writer, t api.Transfer, dry bool) {
	line := func(state, what string, sent bool) {
		n, bytes, travels := t.Count(state)
		switch {
		case n == 0:
		case sent:
			fmt.Fprintf(w, "%s %s, %s, of which %s travel\n", what, count(n, "version"), api.Bytes(bytes), api.Bytes(travels))
		default:
			fmt.Fprintf(w, "%s %s, %s\n", what, count(n, "version"), api.Bytes(bytes))
		}
	}
	line(api.TransferNew, "To come:      ", true)
	line(api.TransferCame, "Came:         ", true)
	line(api.TransferThere, "There already:", false)
	line(api.TransferRefused, "Not taken:    ", false)
	line(api.TransferFailed, "Failed:       ", false)
	if t.PassedOver > 0 {
		fmt.Fprintf(w, "Passed over:   %s that belong to no package\n", count(t.PassedOver, "file"))
	}
	if len(t.Versions) == 0 {
		fmt.Fprintf(w, "There is no package in %s.\n", t.From)
		return
	}
	var rows, not [][]string
	for _, v := range t.Versions {
		name := v.PURL
		if name == "" {
			name = strings.Join(v.Files, ", ")
		}
		switch v.State {
		case api.TransferRefused, api.TransferFailed:
			not = append(not, []string{oneLine(name), v.Why, v.Hint})
		case api.TransferNew:
			rows = append(rows, []string{oneLine(name), v.Repository, count(len(v.Files), "file"), api.Bytes(v.Bytes)})
		}
	}
	if dry && rows != nil {
		fmt.Fprintln(w)
		table(w, []string{"TO COME", "REPOSITORY", "FILES", "SIZE"}, []int{3}, rows)
	}
	if not != nil {
		fmt.Fprintln(w)
		table(w, []string{"DOES NOT COME", "WHY", "WHAT TO DO"}, nil, not)
	}
}

// transferTold says now and then how far a transfer is.
type transferTold struct {
	to          io.Writer
	mu          sync.Mutex
	begun, said time.Time
	files       int // that were looked at
	of, done    int // versions
	total, read int64
}

func (t *transferTold) looked(files int) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.files += files
	if t.due() {
		fmt.Fprintf(t.to, "Looked at %s.\n", count(t.files, "file"))
	}
}

// due tells whether it is time to say something.
func (t *transferTold) due() bool {
	if time.Since(t.said) < tellEvery {
		return false
	}
	t.said = time.Now()
	return true
}

func (t *transferTold) begin(versions int, bytes int64) {
	t.of, t.total, t.begun, t.said = versions, bytes, time.Now(), time.Now()
}

func (t *transferTold) follow(_ string, _ int64, r io.Reader) io.Reader { return &transferRead{r, t} }

// transferRead counts what is sent.
type transferRead struct {
	io.Reader
	told *transferTold
}

// Read implements io.Reader.
func (r *transferRead) Read(p []byte) (int, error) {
	n, err := r.Reader.Read(p)
	r.told.mu.Lock()
	defer r.told.mu.Unlock()
	r.told.read += int64(n)
	r.told.tell()
	return n, err
}

func (t *transferTold) came(api.TransferVersion) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.done++
	t.tell()
}

func (t *transferTold) tell() {
	if !t.due() {
		return
	}
	took := time.Since(t.begun).Seconds()
	rate := float64(t.read) / took
	left := ""
	if rest := t.total - t.read; rest > 0 && rate > 0 {
		left = ", " + (time.Duration(float64(rest)/rate) * time.Second).String() + " left"
	}
	fmt.Fprintf(t.to, "%d of %s, %s of %s, %s/s%s\n", t.done, count(t.of, "version"), api.Bytes(t.read),
		api.Bytes(t.total), api.Bytes(int64(rate)), left)
}
