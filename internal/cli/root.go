// Package cli is Crelvo's command line.
package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"net"
	"net/http"
	"net/url"
	"os"
	"os/signal"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"time"

	"github.com/goccy/go-yaml"
	"github.com/spf13/cobra"

	"crelvo/internal/api"
	"crelvo/internal/client"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/purl"
	"crelvo/internal/core/text"
)

// Version is set when the program is built.
var Version = "development"

// The exit codes.
const (
	exitDone        = 0
	exitFailed      = 1
	exitUsage       = 2
	exitNotFound    = 3
	exitNotAllowed  = 4
	exitUnreachable = 5
	exitWaits       = 6 // it waits for somebody
	exitAsks        = 7 // it asks before it goes on
	exitConcerned   = 8 // status: something is wrong
	exitInterrupted = 130
)

// usageError is wrong usage of a command.
type usageError struct{ error }

// Unwrap gives the cause, which may have a hint.
func (u usageError) Unwrap() error { return u.error }

// Main runs the command line and returns its exit code.
func Main(args []string, stdin io.Reader, stdout, stderr io.Writer) int {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	root := newRoot()
	root.SetArgs(args)
	root.SetIn(stdin)
	root.SetOut(stdout)
	root.SetErr(stderr)
	err := root.ExecuteContext(ctx)
	if err == nil {
		return exitDone
	}
	if code := silent(0); errors.As(err, &code) {
		return int(code)
	}
	if ctx.Err() != nil && errors.Is(err, context.Canceled) {
		fmt.Fprintln(stderr, "crelvo: interrupted")
		return exitInterrupted
	}
	said := "crelvo: " + purl.Typed(sentence(err))
	if form, _ := root.PersistentFlags().GetString("output"); form == "json" || form == "yaml" {
		_ = (&session{output: form}).show(stderr, failureOf(err), nil) // stderr is all there is to tell it on
		return exitCode(err)
	}
	fmt.Fprintln(stderr, said)
	return exitCode(err)
}

// failure is an error as programs read it.
type failure struct {
	Error struct {
		Status int    `json:"status,omitempty"` // of HTTP, where a server answered
		Code   string `json:"code,omitempty"`
		Detail string `json:"detail"`
		Hint   string `json:"hint,omitempty"`
	} `json:"error"`
	ExitCode int `json:"exitCode"`
}

func failureOf(err error) failure {
	out := failure{ExitCode: exitCode(err)}
	e := &out.Error
	e.Detail = err.Error()
	var p *api.Problem
	var f *fault.Error
	switch {
	case errors.As(err, &p):
		e.Status, e.Code, e.Detail, e.Hint = p.Status, p.Code, p.Detail, p.Hint
	case errors.As(err, &f):
		e.Code, e.Detail, e.Hint = f.Code, f.Message, f.Hint
	default:
		e.Code = map[int]string{exitUsage: "usage", exitUnreachable: "unreachable"}[out.ExitCode]
	}
	return out
}

// meant proposes the name that somebody may have meant, or says otherwise.
func meant(word string, names []string, otherwise string) string {
	if best := text.Closest(word, names); best != "" {
		return "Did you mean " + best + "?"
	}
	return otherwise
}

// silent ends the program with a code after all was said.
type silent int

func (silent) Error() string { return "" }

// pointedError shows the place of a mistake, so its lines stay as they are.
type pointedError struct{ text string }

func (p pointedError) Error() string { return p.text }

// sentence is an error in one line: what happened and what to do.
func sentence(err error) string {
	if pointed := (pointedError{}); errors.As(err, &pointed) {
		return pointed.text
	}
	message, hint := err.Error(), ""
	var p *api.Problem
	var f *fault.Error
	var u *client.Unreachable
	switch {
	case errors.As(err, &p):
		hint = p.Hint
		if p.Status == http.StatusUnprocessableEntity && len(p.Errors) > 0 {
			message, hint = validation(p), "The command's --help says what it takes."
		}
	case errors.As(err, &f):
		hint = f.Hint
	case errors.As(err, &u):
		hint = "Is the service running, and is the address right? Set it with --server or CRELVO_SERVER."
	}
	message = strings.TrimSuffix(strings.Join(strings.Fields(message), " "), ".")
	if hint == "" {
		return message
	}
	return message + ". " + hint
}

// validation is a refusal by the API's schema as a sentence, by the names of flags. A
// line of it is such as "expected string … (body.holds: everything)".
func validation(p *api.Problem) string {
	var all []string
	for _, line := range p.Errors {
		what, where, ok := strings.Cut(strings.TrimSuffix(line, ")"), " (")
		name, value, _ := strings.Cut(where, ": ")
		name = name[strings.IndexByte(name, '.')+1:]
		if !ok || name == "" {
			all = append(all, line)
			continue
		}
		what = strings.TrimPrefix(what, "expected ")
		if choices, ok := strings.CutPrefix(what, "value to be one of "); ok {
			what = "choose " + strings.Trim(choices, `"`)
		}
		if value != "" {
			what = fmt.Sprintf("cannot be %q: %s", value, what)
		}
		all = append(all, flagOf(name)+" "+what)
	}
	return strings.Join(all, "; ")
}

// flagOf is a field of the API as the command line names it.
func flagOf(field string) string {
	var flag strings.Builder
	flag.WriteString("--")
	for _, r := range field {
		switch {
		case r >= 'A' && r <= 'Z':
			flag.WriteByte('-')
			flag.WriteRune(r + 'a' - 'A')
		case r == '.' || r == '[' || r == ']':
			flag.WriteByte('-')
		default:
			flag.WriteRune(r)
		}
	}
	return strings.TrimRight(flag.String(), "-")
}

func exitCode(err error) int {
	var p *api.Problem
	var u *client.Unreachable
	var usage usageError
	switch {
	case errors.As(err, &usage):
		return exitUsage
	case errors.As(err, &u):
		return exitUnreachable
	case errors.As(err, &p) && p.Status == http.StatusNotFound:
		return exitNotFound
	case errors.As(err, &p) && p.Status == http.StatusUnprocessableEntity && len(p.Errors) > 0:
		return exitUsage
	case errors.As(err, &p) && (p.Status == http.StatusUnauthorized || p.Status == http.StatusForbidden):
		return exitNotAllowed
	}
	return exitFailed
}

// session is what the commands share.
type session struct {
	server string
	output string
	warned bool
	yes    bool
	wide   bool
	// columns are those of a table that are wanted; nil for all.
	columns []string
}

// warnOfEnd says, once, that the token ends soon.
func (s *session) warnOfEnd(at time.Time) {
	if !s.warned {
		s.warned = true
		fmt.Fprintf(os.Stderr, "crelvo: your token ends on %s, in %s; make a new one with crelvo login or crelvo token new\n",
			timeText(at), api.Length(time.Until(at)))
	}
}

const defaultServer = "http://127.0.0.1:8700"

func newRoot() *cobra.Command {
	s := new(session)
	root := group("crelvo", "Keeps every package that an organisation makes or uses")
	root.Version = Version
	root.Args = cobra.ArbitraryArgs
	root.SilenceErrors, root.SilenceUsage = true, true
	root.PersistentPreRunE = func(cmd *cobra.Command, args []string) error {
		if s.output != "table" && s.output != "json" && s.output != "yaml" {
			return usageError{fmt.Errorf("--output cannot be %q; choose table, json or yaml", s.output)}
		}
		if s.output == "table" {
			root.SetOut(&forPeople{to: root.OutOrStdout(), wide: s.wide, columns: s.columns})
		}
		return nil
	}
	root.SetFlagErrorFunc(func(cmd *cobra.Command, err error) error {
		if name, ok := strings.CutPrefix(err.Error(), "unknown flag: --"); ok {
			return usageError{fault.New(fault.Invalid, "no-such-flag", "%s has no flag --%s", cmd.CommandPath(), name).
				WithHint("%s", meant("--"+name, flagNames(cmd), "See "+cmd.CommandPath()+" --help."))}
		}
		return usageError{fmt.Errorf("%w; see %s --help", err, cmd.CommandPath())}
	})
	flags := root.PersistentFlags()
	flags.StringVar(&s.server, "server", "",
		"address of the service, or the name that it was given (CRELVO_SERVER; default "+defaultServer+")")
	flags.StringVarP(&s.output, "output", "o", "table", "form of the output: table, json or yaml")
	flags.BoolVar(&s.wide, "wide", false, "do not fold tables, whatever the width of the terminal is")
	flags.StringSliceVar(&s.columns, "columns", nil, "only these columns of a table, by their heads, in this order")
	flags.BoolVar(&s.yes, "yes", false, "do not ask")
	must(root.RegisterFlagCompletionFunc("output", fixed("table", "json", "yaml")))
	addServing(root)
	root.AddGroup(&cobra.Group{ID: "use", Title: "Work with packages:"},
		&cobra.Group{ID: "manage", Title: "Set up and look after:"})
	add := func(group string, commands ...*cobra.Command) {
		for _, c := range commands {
			c.GroupID = group
			root.AddCommand(c)
		}
	}
	add("use", publishCommand(s), transferCommand(s), bundleCommand(s), fetchCommand(s), searchCommand(s),
		showCommand(s), compareCommand(s), symbolsCommand(s),
		explainCommand(s), pointCommand(s),
		withdrawCommand(s), removeCommand(s), pinCommand(s), whoUsesCommand(s), receivingCommand(s), buildCommand(s),
		promoteCommand(s), promotionCommand(s))
	add("manage", repoCommand(s), mirrorCommand(s), claimCommand(s), trackCommand(s), keyCommand(s), targetCommand(s),
		relayCommand(s),
		storeCommand(s), quotaCommand(s), nodeCommand(s), advisoryCommand(s), waiverCommand(s), vettingCommand(s),
		checkCommand(s),
		policyCommand(s), sweepCommand(s), reclaimCommand(s), usageCommand(s), spaceCommand(s), userCommand(s),
		teamCommand(s), grantCommand(s), tokenCommand(s), eventsCommand(s), verifyCommand(s), backupCommand(s),
		statusCommand(s), loginCommand(s), logoutCommand(s), whoamiCommand(s))
	root.AddCommand(manualCommand(root))
	addCompletions(s, root)
	addExamples(root)
	return root
}

// group makes a command that only holds others.
func group(use, short string, commands ...*cobra.Command) *cobra.Command {
	c := &cobra.Command{Use: use, Short: short, RunE: func(cmd *cobra.Command, args []string) error {
		if len(args) > 0 {
			var names []string
			for _, c := range cmd.Commands() {
				names = append(names, c.Name())
			}
			return usageError{fault.New(fault.Invalid, "no-such-command", "there is no command %q", cmd.CommandPath()+" "+
				args[0]).
				WithHint("%s", meant(args[0], names, "See "+cmd.CommandPath()+" --help."))}
		}
		return cmd.Help()
	}}
	c.AddCommand(commands...)
	return c
}

// arguments checks the number of arguments as wrong usage, not as a failure.
func arguments(check cobra.PositionalArgs) cobra.PositionalArgs {
	return func(cmd *cobra.Command, args []string) error {
		if err := check(cmd, args); err != nil {
			return usageError{fmt.Errorf("%w; usage: %s", err, cmd.UseLine())}
		}
		return nil
	}
}

// must is for what can only fail by a mistake in the program.
func must(err error) {
	if err != nil {
		panic(err)
	}
}

func fixed(values ...string) cobra.CompletionFunc {
	return cobra.FixedCompletions(values, cobra.ShellCompDirectiveNoFileComp)
}

// stored is ~/.config/crelvo/config.yaml: the server that is used where none is named,
// and others by their names.
type stored struct {
	Server string            `yaml:"server,omitempty"`
	Token  string            `yaml:"token,omitempty"`
	Named  map[string]signIn `yaml:"servers,omitempty"`
}

// signIn is a server with the token that is kept for it.
type signIn struct {
	Server string `yaml:"server"`
	Token  string `yaml:"token,omitempty"`
}

// tokenOf is the token that is kept for a server.
func (c stored) tokenOf(server string) string {
	if server == c.Server && c.Token != "" {
		return c.Token
	}
	for _, name := range slices.Sorted(maps.Keys(c.Named)) {
		if c.Named[name].Server == server && c.Named[name].Token != "" {
			return c.Named[name].Token
		}
	}
	return ""
}

// with keeps a token for a server: under a name or, without one, as that of the server
// that is used where none is named.
func (c stored) with(name, server, token string) stored {
	c.Named = maps.Clone(c.Named)
	for known, s := range c.Named {
		if s.Server == server && (name == "" || known != name) {
			c.Named[known] = signIn{Server: server, Token: token}
		}
	}
	if name != "" {
		if c.Named == nil {
			c.Named = map[string]signIn{}
		}
		c.Named[name] = signIn{Server: server, Token: token}
	}
	if name == "" || c.Server == "" || c.Server == server {
		c.Server, c.Token = server, token
	}
	return c
}

// without forgets the tokens of a server.
func (c stored) without(server string) stored {
	c.Named = maps.Clone(c.Named)
	for name, s := range c.Named {
		if s.Server == server {
			c.Named[name] = signIn{Server: server}
		}
	}
	if c.Server == server {
		c.Token = ""
	}
	return c
}

func configPath() (string, error) {
	dir, err := os.UserConfigDir()
	if err != nil {
		return "", err
	}
	return filepath.Join(dir, "crelvo", "config.yaml"), nil
}

func readStored() (stored, error) {
	var c stored
	path, err := configPath()
	if err != nil {
		return c, nil // no home: only the environment counts
	}
	raw, err := os.ReadFile(path)
	if errors.Is(err, os.ErrNotExist) {
		return c, nil
	}
	if err != nil {
		return c, err
	}
	if err := yaml.Unmarshal(raw, &c); err != nil {
		return c, fmt.Errorf("%s cannot be read: %w", path, err)
	}
	return c, nil
}

func writeStored(c stored) (string, error) {
	path, err := configPath()
	if err != nil {
		return "", err
	}
	raw, err := yaml.Marshal(c)
	if err != nil {
		return "", err
	}
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return "", err
	}
	part := path + ".new" // a cut leaves the old one
	if err := os.WriteFile(part, raw, 0o600); err != nil {
		return path, err
	}
	return path, os.Rename(part, path)
}

// address is the server that is meant: by a flag, the environment or what is stored,
// by its address or by the name that it was given.
func (s *session) address(kept stored) (string, error) {
	server := s.server
	for _, candidate := range []string{os.Getenv("CRELVO_SERVER"), kept.Server, defaultServer} {
		if server == "" {
			server = candidate
		}
	}
	if named, ok := kept.Named[server]; ok {
		return named.Server, nil
	}
	return serverAddress(server)
}

// client makes a client from flags, environment and stored settings. A stored token
// is only for its own server.
func (s *session) client() (*client.Client, error) {
	kept, err := readStored()
	if err != nil {
		return nil, err
	}
	server, err := s.address(kept)
	if err != nil {
		return nil, err
	}
	token := os.Getenv("CRELVO_TOKEN")
	if token == "" {
		token = kept.tokenOf(server)
	}
	return &client.Client{Server: server, Token: token, Agent: "crelvo/" + Version, OnTokenEnds: s.warnOfEnd}, nil
}

// serverAddress is the address of a server as it was given: a scheme that is left out
// is https, or http on the machine itself.
func serverAddress(text string) (string, error) {
	whole := strings.TrimSpace(text)
	if !strings.Contains(whole, "://") {
		host, _, err := net.SplitHostPort(whole)
		if err != nil {
			host = whole
		}
		scheme := "https://"
		if host == "localhost" || net.ParseIP(host).IsLoopback() {
			scheme = "http://"
		}
		whole = scheme + whole
	}
	u, err := url.Parse(whole)
	if err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "" || u.User != nil {
		return "", usageError{fmt.Errorf("%q is no address of a server; write it like https://packages.skerry.example", text)}
	}
	return strings.TrimSuffix(whole, "/"), nil
}

// completeRepositories completes names of repositories.
func (s *session) completeRepositories(
	cmd *cobra.Command, args []string, toComplete string,
) ([]string, cobra.ShellCompDirective) {
	c, err := s.client()
	if err != nil {
		return nil, cobra.ShellCompDirectiveError
	}
	all, err := c.Repositories(cmd.Context())
	if err != nil {
		return nil, cobra.ShellCompDirectiveError
	}
	var names []string
	for _, r := range all {
		names = append(names, r.Name)
	}
	return names, cobra.ShellCompDirectiveNoFileComp
}
