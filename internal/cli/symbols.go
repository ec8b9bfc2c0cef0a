package cli

import (
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"

	"github.com/spf13/cobra"

	"crelvo/internal/api"
	"crelvo/internal/client"
	"crelvo/internal/core/purl"
	"crelvo/internal/core/symbols"
)

func symbolsCommand(s *session) *cobra.Command {
	cmd := &cobra.Command{Use: "symbols", Short: "Find programs and their debug symbols",
		Long: "Find programs and their debug symbols, wherever they were published. Debuggers get them by their own\n" +
			"protocols: crelvo point gdb --at REPOSITORY tells how, and so for lldb, debuginfod,\n" +
			"windbg and dotnet-symbol."}
	cmd.AddCommand(symbolsFindCommand(s), symbolsListCommand(s), symbolsLookCommand(s))
	return cmd
}

func symbolsFindCommand(s *session) *cobra.Command {
	var in string
	cmd := &cobra.Command{Use: "find BUILD-ID|FILE|CORE",
		Short: "Tell which version a program is of, and where its symbols are",
		Args:  arguments(cobra.ExactArgs(1)),
		Long: "Tell which version a program is of, which build made it, and where its debug symbols are. A program is\n" +
			"known by its build id, by a file on this machine, or by a core file: then it is told of all that the\n" +
			"process had loaded. What is none of these is looked for as the name of a file.",
		Example: "  crelvo symbols find 9511387e6917ba6371bd9c55130b3c6696b8fea7\n" +
			"  crelvo symbols find /usr/bin/turnstile\n" +
			"  crelvo symbols find core.4711",
		RunE: func(cmd *cobra.Command, args []string) error {
			return answer(s, cmd, func(ctx context.Context, c *client.Client) ([]wantedSymbols, error) {
				return findSymbols(ctx, c, args[0], in)
			}, showWantedSymbols)
		}}
	cmd.Flags().StringVar(&in, "in", "", "only in this repository")
	must(cmd.RegisterFlagCompletionFunc("in", s.completeRepositories))
	return cmd
}

func symbolsListCommand(s *session) *cobra.Command {
	var in string
	cmd := &cobra.Command{Use: "list PURL", Short: "List what a version has for debuggers",
		Args:    arguments(cobra.ExactArgs(1)),
		Example: "  crelvo symbols list pkg:generic/turnstile-firmware@3.1.0",
		RunE: func(cmd *cobra.Command, args []string) error {
			if asked, err := purl.Parse(args[0]); err != nil || asked.Version == "" {
				return usageError{errors.Join(err, fmt.Errorf("%s is no version", args[0]))}
			}
			return answer(s, cmd, func(ctx context.Context, c *client.Client) ([]api.Symbol, error) {
				return c.Symbols(ctx, "", "", args[0], in)
			}, func(w io.Writer, all []api.Symbol) {
				if len(all) == 0 {
					fmt.Fprintln(w, "It has nothing with a build id, or has not been looked into yet.")
					return
				}
				symbolTable(w, all)
			})
		}}
	cmd.Flags().StringVar(&in, "in", "", "only in this repository")
	must(cmd.RegisterFlagCompletionFunc("in", s.completeRepositories))
	return cmd
}

func symbolsLookCommand(s *session) *cobra.Command {
	var in string
	cmd := &cobra.Command{Use: "look PURL", Short: "Have a version looked into, such as the layers of an image",
		Args: arguments(cobra.ExactArgs(1)),
		Long: "Have a version looked into for programs and symbols. What is published is looked into by itself, but for\n" +
			"the layers of images: they are large, and mostly of others. Whoever may publish an image may ask for it.",
		Example: "  crelvo symbols look pkg:oci/berth-planner@1.4.0 --in releases",
		RunE: func(cmd *cobra.Command, args []string) error {
			return answer(s, cmd, func(ctx context.Context, c *client.Client) (api.LookedFor, error) {
				return c.LookForSymbols(ctx, api.WantedLook{PURL: args[0], Repository: in})
			}, func(w io.Writer, l api.LookedFor) {
				fmt.Fprintln(w, "These are looked into now; crelvo symbols list tells of each what is found.")
				for _, version := range l.Versions {
					fmt.Fprintln(w, "  "+version)
				}
			})
		}}
	cmd.Flags().StringVar(&in, "in", "", "the repository that has it")
	must(cmd.RegisterFlagCompletionFunc("in", s.completeRepositories))
	return cmd
}

// wantedSymbols is a program and what was found of it.
type wantedSymbols struct {
	Program string       `json:"program"`
	Key     string       `json:"key,omitempty"`
	Found   []api.Symbol `json:"found"`
}

// isKey tells whether a text can be a build id.
func isKey(text string) bool {
	raw, err := hex.DecodeString(text)
	return err == nil && len(raw) >= 4
}

func findSymbols(ctx context.Context, c *client.Client, what, in string) (all []wantedSymbols, err error) {
	programs, err := programsIn(what)
	if err != nil {
		return nil, err
	}
	for _, p := range programs {
		one := wantedSymbols{Program: p.Path, Key: p.BuildID, Found: []api.Symbol{}}
		switch {
		case p.BuildID != "":
			one.Found, err = c.Symbols(ctx, p.BuildID, "", "", in)
		case len(programs) == 1:
			one.Found, err = c.Symbols(ctx, "", path.Base(p.Path), "", in)
		}
		if err != nil {
			return nil, err
		}
		all = append(all, one)
	}
	return all, nil
}

// programsIn are the programs that somebody means: by a build id, a file, or a core file.
func programsIn(what string) ([]symbols.Loaded, error) {
	file, err := os.Open(what)
	if errors.Is(err, fs.ErrNotExist) {
		if isKey(what) {
			return []symbols.Loaded{{Path: "", BuildID: what}}, nil
		}
		return []symbols.Loaded{{Path: what}}, nil
	}
	if err != nil {
		return nil, err
	}
	defer file.Close()
	if loaded, err := symbols.InCore(file); err == nil {
		return loaded, nil
	}
	stat, err := file.Stat()
	if err != nil {
		return nil, err
	}
	found, err := symbols.Identify(what, file, stat.Size())
	if err != nil {
		return nil, fmt.Errorf("%s cannot be read: %w", what, err)
	}
	if len(found) == 0 {
		return nil, fmt.Errorf("%s is no program with a build id, no symbols of one, and no core file", what)
	}
	all := make([]symbols.Loaded, len(found))
	for i, s := range found {
		all[i] = symbols.Loaded{Path: what, BuildID: s.Key}
	}
	return all, nil
}

func showWantedSymbols(w io.Writer, all []wantedSymbols) {
	for i, one := range all {
		if i > 0 {
			fmt.Fprintln(w)
		}
		fields(w, "program", one.Program, "build id", one.Key)
		switch {
		case len(one.Found) > 0:
			symbolTable(w, one.Found)
		case one.Key == "" && len(all) > 1:
			fmt.Fprintln(w, "It has no build id.")
		default:
			fmt.Fprintln(w, "No repository that you may read has it.")
		}
	}
}

func symbolTable(w io.Writer, all []api.Symbol) {
	var rows [][]string
	for _, s := range all {
		has := "code"
		switch {
		case s.Code && s.Debug:
			has = "code and symbols"
		case s.Debug:
			has = "symbols"
		case s.Known:
			has = "code; symbols are known"
		case s.Format == "elf":
			has = "code; no symbols are known"
		}
		at := s.File
		if s.Path != "" && at != "" {
			at += ": "
		}
		rows = append(rows, []string{at + s.Path, s.Format, s.Key, has, purl.Typed(s.PURL), s.Repository, s.Build,
			api.Bytes(s.Bytes)})
	}
	table(w, []string{"FILE", "FORMAT", "KEY", "HAS", "VERSION", "REPOSITORY", "BUILD", "SIZE"}, []int{7}, rows)
}
