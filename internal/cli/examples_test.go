package cli

import (
	"strings"
	"testing"

	"github.com/spf13/cobra"
)

// words parts a line as a shell does, as far as examples need it.
func words(line string) (all []string) {
	var b strings.Builder
	open := rune(0)
	begun := false
	for _, r := range line {
		switch {
		case open != 0 && r == open:
			open = 0
		case open == 0 && (r == '\'' || r == '"'):
			open, begun = r, true
		case open == 0 && (r == ' ' || r == '\t'):
			if begun {
				all = append(all, b.String())
				b.Reset()
				begun = false
			}
		default:
			b.WriteRune(r)
			begun = true
		}
	}
	if begun {
		all = append(all, b.String())
	}
	return all
}

// TestExamples: every command has examples, and each is right by the command's own
// flags and arguments.
func TestExamples(t *testing.T) {
	var walk func(c *cobra.Command)
	walk = func(c *cobra.Command) {
		for _, child := range c.Commands() {
			walk(child)
		}
		if c.HasSubCommands() && c.Example == "" || c.Hidden || c.Name() == "help" ||
			c.Parent() != nil && c.Parent().Name() == "completion" {
			return
		}
		if c.Example == "" {
			t.Errorf("%s has no example", c.CommandPath())
		}
		for line := range strings.SplitSeq(c.Example, "\n") {
			line, _, _ = strings.Cut(strings.TrimSpace(line), " | ")
			line, _, _ = strings.Cut(line, " > ")
			line, _, _ = strings.Cut(line, " < ")
			line, _, _ = strings.Cut(line, "   #")
			given := words(line)
			if len(given) == 0 || given[0] != "crelvo" {
				t.Errorf("%s: the example %q is no command", c.CommandPath(), line)
				continue
			}
			root := newRoot() // flags remember what they were given
			found, rest, err := root.Find(given[1:])
			if err != nil {
				t.Errorf("%q is about %s, %v", line, found.CommandPath(), err)
				continue
			}
			if err := found.ParseFlags(rest); err != nil {
				t.Errorf("%q: %v", line, err)
			} else if err := found.ValidateArgs(found.Flags().Args()); err != nil {
				t.Errorf("%q: %v", line, err)
			} else if err := found.ValidateRequiredFlags(); err != nil {
				t.Errorf("%q: %v", line, err)
			}
		}
	}
	walk(newRoot())
}
