package cli

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"strings"
	"time"

	"github.com/charmbracelet/lipgloss"
	"github.com/goccy/go-yaml"
	"github.com/mattn/go-runewidth"
	"github.com/spf13/cobra"
	"github.com/vbauerster/mpb/v8"
	"github.com/vbauerster/mpb/v8/decor"
	"golang.org/x/term"

	"crelvo/internal/client"
)

// answer asks the service and shows what it says.
func answer[T any](s *session, cmd *cobra.Command, ask func(ctx context.Context, c *client.Client) (T, error), table func(w io.Writer, value T)) error {
	c, err := s.client()
	if err != nil {
		return err
	}
	value, err := ask(cmd.Context(), c)
	if err != nil {
		return err
	}
	w := cmd.OutOrStdout()
	return s.show(w, value, func() { table(w, value) })
}

// show writes a value as JSON or YAML, or calls table for people.
func (s *session) show(w io.Writer, value any, table func()) error {
	switch s.output {
	case "json":
		encoder := json.NewEncoder(w)
		encoder.SetIndent("", "  ")
		return encoder.Encode(value)
	case "yaml":
		raw, err := json.Marshal(value)
		if err != nil {
			return err
		}
		converted, err := yaml.JSONToYAML(raw)
		if err != nil {
			return err
		}
		_, err = w.Write(converted)
		return err
	}
	table()
	return nil
}

func isTerminal(w io.Writer) bool {
	f, ok := w.(*os.File)
	return ok && term.IsTerminal(int(f.Fd()))
}

var headStyle = lipgloss.NewStyle().Bold(true)

// table writes rows in aligned columns; right lists the columns of numbers. On
// a terminal the head is bold, and the last column is cut to fit.
func table(w io.Writer, head []string, right []int, rows [][]string) {
	widths := make([]int, len(head))
	for _, row := range append([][]string{head}, rows...) {
		for i, cell := range row {
			widths[i] = max(widths[i], runewidth.StringWidth(cell))
		}
	}
	atRight := map[int]bool{}
	for _, i := range right {
		atRight[i] = true
	}
	room := 0
	if isTerminal(w) {
		if columns, _, err := term.GetSize(int(w.(*os.File).Fd())); err == nil {
			room = columns
		}
	}
	line := func(row []string) string {
		var b strings.Builder
		for i, cell := range row {
			if i > 0 {
				b.WriteString("  ")
			}
			padding := strings.Repeat(" ", widths[i]-runewidth.StringWidth(cell))
			switch {
			case atRight[i]:
				b.WriteString(padding + cell)
			case i == len(row)-1:
				b.WriteString(cell)
			default:
				b.WriteString(cell + padding)
			}
		}
		text := strings.TrimRight(b.String(), " ")
		if room > 0 {
			text = runewidth.Truncate(text, room, "…")
		}
		return text
	}
	heading := line(head)
	if isTerminal(w) {
		heading = headStyle.Render(heading)
	}
	fmt.Fprintln(w, heading)
	for _, row := range rows {
		fmt.Fprintln(w, line(row))
	}
}

// fields writes names and values, one pair a line.
func fields(w io.Writer, pairs ...string) {
	width := 0
	for i := 0; i < len(pairs); i += 2 {
		width = max(width, len(pairs[i]))
	}
	for i := 0; i+1 < len(pairs); i += 2 {
		if pairs[i+1] != "" {
			fmt.Fprintf(w, "%-*s  %s\n", width, pairs[i], pairs[i+1])
		}
	}
}

// timeText is a time for people, with its zone.
func timeText(t time.Time) string { return t.Local().Format("2006-01-02 15:04 MST") }

func optionalTime(t *time.Time, never string) string {
	if t == nil {
		return never
	}
	return timeText(*t)
}

func yesNo(b bool) string {
	if b {
		return "yes"
	}
	return "no"
}

func orNone(items []string, none string) string {
	if len(items) == 0 {
		return none
	}
	return strings.Join(items, ", ")
}

// progress shows how transfers go, on a terminal.
type progress struct{ bars *mpb.Progress }

func newProgress(w io.Writer) *progress {
	if !isTerminal(w) {
		return &progress{}
	}
	return &progress{mpb.New(mpb.WithOutput(w), mpb.WithWidth(60), mpb.WithRefreshRate(120*time.Millisecond))}
}

// follow shows a bar while r is read. size may be -1.
func (p *progress) follow(name string, size int64, r io.Reader) io.Reader {
	if p.bars == nil {
		return r
	}
	bar := p.bars.AddBar(size, mpb.PrependDecorators(decor.Name(name+"  ")),
		mpb.AppendDecorators(decor.CountersKibiByte("% .1f / % .1f"), decor.Name("  "), decor.EwmaSpeed(decor.SizeB1024(0), "% .1f", 30)))
	return bar.ProxyReader(r)
}

func (p *progress) wait() {
	if p.bars != nil {
		p.bars.Shutdown()
	}
}
