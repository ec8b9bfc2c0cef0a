package cli

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"reflect"
	"slices"
	"strings"
	"time"

	"github.com/charmbracelet/lipgloss"
	"github.com/goccy/go-yaml"
	"github.com/mattn/go-runewidth"
	"github.com/spf13/cobra"
	"github.com/vbauerster/mpb/v8"
	"github.com/vbauerster/mpb/v8/decor"
	"golang.org/x/term"

	"crelvo/internal/api"
	"crelvo/internal/client"
	"crelvo/internal/core/purl"
)

// answer asks the service and shows what it says.
func answer[T any](
	s *session, cmd *cobra.Command, ask func(ctx context.Context, c *client.Client) (T, error),
	table func(w io.Writer, value T),
) error {
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

// listOf is a list as all commands give it to programs.
type listOf struct {
	Items any  `json:"items"`
	More  bool `json:"more"` // there are more than were asked for
}

// listed makes a list of what is one: values that follow each other, or a page of
// them. Other values stay as they are.
func listed(value any) any {
	switch v := value.(type) {
	case api.PackageList:
		return listOf{v.Packages, v.More}
	case api.AdvisoryList:
		return listOf{v.Advisories, v.More}
	case api.AffectedList:
		return listOf{v.Affected, v.Total > len(v.Affected)}
	case api.BuildList:
		return listOf{v.Builds, v.Before != 0}
	case api.PromotionList:
		return listOf{v.Promotions, v.Before != 0}
	}
	if v := reflect.ValueOf(value); v.IsValid() && v.Kind() == reflect.Slice {
		if v.IsNil() {
			value = []any{}
		}
		return listOf{value, false}
	}
	return value
}

// show writes a value as JSON or YAML, or calls table for people.
func (s *session) show(w io.Writer, value any, table func()) error {
	value = listed(value)
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

// forPeople is the standard output for people: package URLs stand there as people type
// them.
type forPeople struct {
	to io.Writer
	// wide: tables are as wide as what is in them; columns are those that are wanted,
	// nil for all.
	wide    bool
	columns []string
}

// Write implements io.Writer.
func (f *forPeople) Write(p []byte) (int, error) {
	if _, err := io.WriteString(f.to, purl.Typed(string(p))); err != nil {
		return 0, err
	}
	return len(p), nil
}

// fileOf is the file behind a writer; nil if there is none.
func fileOf(w io.Writer) *os.File {
	if f, ok := w.(*forPeople); ok {
		w = f.to
	}
	f, _ := w.(*os.File)
	return f
}

func isTerminal(w io.Writer) bool {
	f := fileOf(w)
	return f != nil && term.IsTerminal(int(f.Fd()))
}

var headStyle = lipgloss.NewStyle().Bold(true)

// table writes rows in aligned columns; right lists the columns of numbers. On a
// terminal the head is bold, and what does not fit is folded: first the columns of
// texts get narrower, and numbers never.
func table(w io.Writer, head []string, right []int, rows [][]string) {
	for i, row := range rows {
		for j, cell := range row {
			rows[i][j] = purl.Typed(cell)
		}
	}
	people, _ := w.(*forPeople)
	if people != nil && people.columns != nil {
		head, right, rows = chosen(people.columns, head, right, rows)
	}
	room := 0
	if isTerminal(w) && (people == nil || !people.wide) {
		if columns, _, err := term.GetSize(int(fileOf(w).Fd())); err == nil {
			room = columns
		}
	}
	lines := tableLines(head, right, rows, room)
	if isTerminal(w) {
		lines[0] = headStyle.Render(lines[0])
	}
	for _, line := range lines {
		fmt.Fprintln(w, line)
	}
}

// chosen leaves of a table the columns that are wanted, in their order.
func chosen(columns, head []string, right []int, rows [][]string) ([]string, []int, [][]string) {
	var at []int
	for _, name := range columns {
		if i := slices.IndexFunc(head, func(h string) bool { return strings.EqualFold(h, strings.TrimSpace(name)) }); i >= 0 {
			at = append(at, i)
		}
	}
	pick := func(row []string) (picked []string) {
		for _, i := range at {
			picked = append(picked, row[i])
		}
		return picked
	}
	var numbers []int
	for to, i := range at {
		if slices.Contains(right, i) {
			numbers = append(numbers, to)
		}
	}
	some := make([][]string, len(rows))
	for i, row := range rows {
		some[i] = pick(row)
	}
	return pick(head), numbers, some
}

// narrowest is how narrow a column of texts may get.
const narrowest = 14

// tableLines lays a table out; room is how many columns there are, 0 for any number.
func tableLines(head []string, right []int, rows [][]string, room int) []string {
	widths := make([]int, len(head))
	for _, row := range append([][]string{head}, rows...) {
		for i, cell := range row {
			widths[i] = max(widths[i], runewidth.StringWidth(cell))
		}
	}
	total := func() (sum int) {
		for _, width := range widths {
			sum += width + 2
		}
		return sum - 2
	}
	for room > 0 && total() > room {
		widest := -1
		for i, width := range widths {
			if width > narrowest && !slices.Contains(right, i) && (widest < 0 || width > widths[widest]) {
				widest = i
			}
		}
		if widest < 0 {
			break // the terminal folds what is left
		}
		widths[widest] = max(narrowest, widths[widest]-(total()-room))
	}
	var lines []string
	for _, row := range append([][]string{head}, rows...) {
		folded := make([][]string, len(row))
		height := 1
		for i, cell := range row {
			folded[i] = fold(cell, widths[i])
			height = max(height, len(folded[i]))
		}
		for n := range height {
			var b strings.Builder
			for i := range row {
				if i > 0 {
					b.WriteString("  ")
				}
				cell := ""
				if n < len(folded[i]) {
					cell = folded[i][n]
				}
				padding := strings.Repeat(" ", max(0, widths[i]-runewidth.StringWidth(cell)))
				if slices.Contains(right, i) {
					b.WriteString(padding + cell)
				} else {
					b.WriteString(cell + padding)
				}
			}
			lines = append(lines, strings.TrimRight(b.String(), " "))
		}
	}
	return lines
}

// fold breaks a text into lines of at most so many columns: at a blank where there is
// one, else behind what parts names, else anywhere.
func fold(text string, width int) (lines []string) {
	for runewidth.StringWidth(text) > width && width > 0 {
		cut := len(runewidth.Truncate(text, width, ""))
		if at := strings.LastIndexByte(text[:min(cut+1, len(text))], ' '); at > 0 {
			lines, text = append(lines, text[:at]), strings.TrimLeft(text[at:], " ")
			continue
		}
		if at := strings.LastIndexAny(text[:cut], "/@-._"); at > cut/2 {
			cut = at + 1
		}
		if cut == 0 {
			break
		}
		lines, text = append(lines, text[:cut]), text[cut:]
	}
	return append(lines, text)
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

// progress shows how transfers go: bars on a terminal, and elsewhere lines about what
// takes long.
type progress struct {
	bars *mpb.Progress
	to   io.Writer
}

func newProgress(w io.Writer) *progress {
	if !isTerminal(w) {
		return &progress{to: w}
	}
	return &progress{bars: mpb.New(mpb.WithOutput(w), mpb.WithWidth(60), mpb.WithRefreshRate(120*time.Millisecond))}
}

// follow shows a bar while r is read. size may be -1.
func (p *progress) follow(name string, size int64, r io.Reader) io.Reader {
	if p.bars == nil {
		return &toldReader{Reader: r, to: p.to, name: name, size: size, said: time.Now()}
	}
	return p.bar(name, size).ProxyReader(r)
}

func (p *progress) bar(name string, size int64) *mpb.Bar {
	return p.bars.AddBar(size, mpb.PrependDecorators(decor.Name(name+"  ")),
		mpb.AppendDecorators(decor.CountersKibiByte("% .1f / % .1f"), decor.Name("  "),
			decor.EwmaSpeed(decor.SizeB1024(0), "% .1f", 30)))
}

func (p *progress) wait() {
	if p.bars != nil {
		p.bars.Shutdown()
	}
}

// tellEvery is how often a transfer is told of where there is no terminal.
const tellEvery = 5 * time.Second

// toldReader writes a line now and then about how far it is.
type toldReader struct {
	io.Reader
	to         io.Writer
	name       string
	size, read int64
	said       time.Time
}

// Read implements io.Reader.
func (t *toldReader) Read(p []byte) (int, error) {
	n, err := t.Reader.Read(p)
	t.read += int64(n)
	if time.Since(t.said) >= tellEvery {
		t.said = time.Now()
		of := ""
		if t.size > 0 {
			of = fmt.Sprintf(" of %s (%d %%)", api.Bytes(t.size), 100*t.read/t.size)
		}
		fmt.Fprintf(t.to, "%s: %s%s\n", t.name, api.Bytes(t.read), of)
	}
	return n, err
}
