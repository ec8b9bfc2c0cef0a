// Package splice changes single settings in the configuration files of others
// and leaves every other byte alone: comments, order, indentation. It works on
// texts; an empty text is a file that is not there yet.
package splice

import (
	"fmt"
	"strings"
)

// Error says why a file cannot be changed.
type Error struct{ Why string }

func (e *Error) Error() string { return e.Why }

func cannot(format string, args ...any) error { return &Error{fmt.Sprintf(format, args...)} }

// lines splits a text into lines with their ends.
func lines(text string) []string {
	if text == "" {
		return nil
	}
	all := strings.SplitAfter(text, "\n")
	if all[len(all)-1] == "" {
		all = all[:len(all)-1]
	}
	return all
}

// ending is how the lines of a text end.
func ending(text string) string {
	if strings.Contains(text, "\r\n") {
		return "\r\n"
	}
	return "\n"
}

// closed is a text whose last line has an end.
func closed(text string) string {
	if text != "" && !strings.HasSuffix(text, "\n") {
		return text + ending(text)
	}
	return text
}

func indentOf(line string) string { return line[:len(line)-len(strings.TrimLeft(line, " \t"))] }

// Block puts text between two marked lines, in place of what stands between
// them, or at the end. comment begins a comment in that language.
func Block(existing, comment, name, text string) (string, error) {
	begin, end := comment+" crelvo "+name+": begin", comment+" crelvo "+name+": end"
	block := begin + "\n" + closed(text) + end + "\n"
	if ending(existing) != "\n" {
		block = strings.ReplaceAll(block, "\n", "\r\n")
	}
	i := strings.Index(existing, begin)
	if i < 0 {
		if existing = closed(existing); existing != "" {
			existing += ending(existing)
		}
		return existing + block, nil
	}
	j := strings.Index(existing[i:], end)
	if j < 0 {
		return "", cannot("it has the line %q, but not the one that ends that part", begin)
	}
	j += i + len(end)
	rest := strings.TrimPrefix(strings.TrimPrefix(existing[j:], "\r"), "\n")
	return existing[:i] + block + rest, nil
}

// InBlock gives what stands between the marked lines.
func InBlock(existing, comment, name string) (string, bool) {
	_, rest, ok := strings.Cut(existing, comment+" crelvo "+name+": begin")
	if !ok {
		return "", false
	}
	inner, _, ok := strings.Cut(rest, comment+" crelvo "+name+": end")
	return inner, ok
}
