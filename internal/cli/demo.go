package cli

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"crelvo/internal/client"
	"crelvo/internal/core/fault"
	"crelvo/internal/demo"
	"crelvo/internal/web"
)

func demoCommand() *cobra.Command {
	var shoreAddress, control string
	cmd := &cobra.Command{Use: "demo", Short: "Run the service with demo data", Args: arguments(cobra.NoArgs),
		Long: "Run the service with the data of a made-up ferry operator, in a temporary folder or the one\n" +
			"that --data gives, and with a stand-in for a public Maven repository. The flags, and the\n" +
			"environment, are those of crelvo serve.",
		RunE: func(cmd *cobra.Command, _ []string) error {
			settings, err := readSettings(cmd)
			if err != nil {
				return err
			}
			if host, _, err := net.SplitHostPort(settings.Listen); err != nil ||
				host != "localhost" && !net.ParseIP(host).IsLoopback() {
				return usageError{
					fmt.Errorf("--listen cannot be %q: everybody knows the credentials of the demo, so it listens on loopback only",
						settings.Listen)}
			}
			if settings.Data == "" {
				if settings.Data, err = os.MkdirTemp("", "crelvo-demo-"); err != nil {
					return err
				}
				defer os.RemoveAll(settings.Data)
				if err := os.Chmod(settings.Data, 0o711); err != nil {
					return err
				}
			}
			content, err := demo.ShoreAll()
			if err != nil {
				return err
			}
			shore, err := standIn(content, shoreAddress, control)
			if err != nil {
				return err
			}
			defer shore.stop()
			clock := new(demo.Clock)
			h, err := openHouse(cmd.Context(), settings, cmd.ErrOrStderr(), clock.Now)
			if err != nil {
				return err
			}
			password, token := cmp.Or(os.Getenv("CRELVO_ADMIN_PASSWORD"), demo.Password),
				cmp.Or(os.Getenv("CRELVO_ADMIN_TOKEN"), demo.Token)
			if _, err := h.service.Rights.Bootstrap(cmd.Context(), password, token); err != nil {
				return errors.Join(err, h.close())
			}
			others := demo.Others{Shore: shore.address, Far: demo.Nowhere}
			if settings.Database == "" { // else there is none for another
				far, end, err := farHouse(cmd.Context(), settings, cmd.ErrOrStderr(), h.address()+"/")
				if err != nil {
					return errors.Join(err, h.close())
				}
				others.Far = far
				defer end()
			}
			if err := h.seed(cmd.Context(), clock, others); err != nil {
				return errors.Join(err, h.close())
			}
			return h.run(cmd.Context(), func() { h.welcome(cmd, token, shore, others.Far) })
		}}
	serveFlags(cmd, "", "warn")
	cmd.Flags().StringVar(&shoreAddress, "shore", "127.0.0.1:0", "the address of the stand-in for the public sources")
	cmd.Flags().StringVar(&control, "control", "127.0.0.1:0", "the address where its faults are switched")
	must(cmd.Flags().MarkHidden("config"))
	cmd.AddCommand(demoUpstream(), demoFault())
	return cmd
}

// standing is a stand-in upstream that runs.
type standing struct {
	*demo.Upstream
	address, control string
	stop             func()
}

// standIn stands in for a public server until stop is called.
func standIn(content demo.Content, address, control string) (standing, error) {
	s := standing{Upstream: demo.NewUpstream(content)}
	l, err := net.Listen("tcp", control)
	if err != nil {
		return s, web.ListenFault(control, err)
	}
	if s.address, err = s.Listen(address); err != nil {
		return s, errors.Join(web.ListenFault(address, err), l.Close())
	}
	server := &http.Server{Handler: s.Control(), ReadHeaderTimeout: time.Minute}
	go func() { _ = server.Serve(l) }() // it ends with Close
	s.control = "http://" + l.Addr().String()
	s.stop = func() { _ = errors.Join(s.Close(), server.Close()) }
	return s, nil
}

func demoUpstream() *cobra.Command {
	var address, control, tree string
	cmd := &cobra.Command{Use: "upstream", Short: "Stand in for public sources, with faults to be switched",
		Args: arguments(cobra.NoArgs),
		Long: "Stand in for public sources: with made-up packages, Maven's at the root, others below npm/, pypi/simple/\n" +
			"and nuget/; or with a folder that has the Maven repository layout, such as " + demo.MavenTree +
			". Faults are switched with crelvo demo fault.",
		Example: "  crelvo demo upstream --listen 127.0.0.1:8701 --control 127.0.0.1:8702 --tree " + demo.MavenTree,
		RunE: func(cmd *cobra.Command, _ []string) error {
			var content demo.Content = demo.Tree(tree)
			if tree == "" {
				made, err := demo.ShoreAll()
				if err != nil {
					return err
				}
				content = made
			} else if stat, err := os.Stat(tree); err != nil || !stat.IsDir() {
				return fault.New(fault.Invalid, "no-tree", "there is no folder %s", tree)
			}
			s, err := standIn(content, address, control)
			if err != nil {
				return err
			}
			defer s.stop()
			fmt.Fprintf(cmd.OutOrStdout(), "ready on %s\nfaults are switched at %s\n", s.address, s.control)
			<-cmd.Context().Done()
			return nil
		}}
	cmd.Flags().StringVar(&address, "listen", "127.0.0.1:8701", "the address to answer on")
	cmd.Flags().StringVar(&control, "control", "127.0.0.1:8702", "the address where its faults are switched")
	cmd.Flags().StringVar(&tree, "tree", "", "a folder to serve instead of the made-up packages")
	return cmd
}

func demoFault() *cobra.Command {
	var at string
	var f demo.Fault
	var length string
	var kinds strings.Builder
	for _, kind := range slices.Sorted(maps.Keys(demo.FaultKinds)) {
		fmt.Fprintf(&kinds, "  %-16s %s\n", kind, demo.FaultKinds[kind])
	}
	cmd := &cobra.Command{Use: "fault KIND|none", Short: "Switch a fault of a stand-in upstream on, or all off",
		Args: arguments(cobra.ExactArgs(1)),
		Long: "Switch a fault of a stand-in upstream on, in place of the one that was; none switches it off.\n" +
			"The faults:\n" + kinds.String(),
		Example:           "  crelvo demo fault cut --path brine-http --times 1\n  crelvo demo fault none",
		ValidArgsFunction: fixed(append(slices.Sorted(maps.Keys(demo.FaultKinds)), "none")...),
		RunE: func(cmd *cobra.Command, args []string) error {
			if length != "" {
				d, err := parseDuration(length)
				if err != nil {
					return usageError{err}
				}
				f.For = int(d.Milliseconds())
			}
			faults := []demo.Fault{}
			if f.Kind = args[0]; f.Kind != "none" {
				faults = append(faults, f)
			}
			if err := switchFaults(cmd.Context(), at, faults); err != nil {
				return err
			}
			said := "does everything right again"
			if len(faults) > 0 {
				said = demo.FaultKinds[f.Kind]
			}
			fmt.Fprintf(cmd.OutOrStdout(), "The stand-in %s.\n", said)
			return nil
		}}
	cmd.Flags().StringVar(&at, "at", "http://127.0.0.1:8702", "where the faults of the stand-in are switched")
	cmd.Flags().StringVar(&f.Path, "path", "", "only for requests whose path has this in it")
	cmd.Flags().IntVar(&f.Times, "times", 0, "only for so many requests (all)")
	cmd.Flags().StringVar(&f.To, "to", "http://10.0.0.1/", "where a redirect leads")
	cmd.Flags().StringVar(&length, "for", "", "how long slowness lasts")
	return cmd
}

// switchFaults tells a stand-in its faults.
func switchFaults(ctx context.Context, at string, faults []demo.Fault) error {
	raw, err := json.Marshal(faults)
	if err != nil {
		return err
	}
	r, err := http.NewRequestWithContext(ctx, http.MethodPut, strings.TrimSuffix(at, "/")+"/faults", bytes.NewReader(raw))
	if err != nil {
		return usageError{err}
	}
	response, err := http.DefaultClient.Do(r)
	if err != nil {
		return &client.Unreachable{Server: at, Err: err}
	}
	defer response.Body.Close()
	said, err := io.ReadAll(io.LimitReader(response.Body, 4096))
	if err == nil && response.StatusCode != http.StatusOK {
		err = usageError{errors.New(strings.TrimSpace(string(said)))}
	}
	return err
}

// farHouse starts the Crelvo of the far site, until end is called. home is where the island's answers.
func farHouse(
	ctx context.Context, like serveSettings, logTo io.Writer, home string,
) (address string, end func(), err error) {
	settings := serveSettings{Data: filepath.Join(like.Data, "mainland"), Listen: "127.0.0.1:0",
		LogLevel: like.LogLevel, LogFormat: like.LogFormat, QuietPeriod: like.QuietPeriod, Drain: like.Drain}
	far, err := openHouse(ctx, settings, logTo, nil)
	if err != nil {
		return "", nil, err
	}
	if _, err := far.service.Rights.Bootstrap(ctx, demo.Password, demo.Token); err != nil {
		return "", nil, errors.Join(err, far.close())
	}
	running, stop := context.WithCancel(context.WithoutCancel(ctx))
	ended, ready := make(chan error, 1), make(chan struct{})
	go func() { ended <- far.run(running, func() { close(ready) }) }()
	end = func() {
		stop()
		if err := <-ended; err != nil {
			far.log.Error("the far site did not end well", "error", err)
		}
	}
	select {
	case err := <-ended:
		stop()
		return "", nil, err
	case <-ready:
	}
	if err := demo.SeedFar(ctx, far.service, far.address(), home); err != nil {
		end()
		return "", nil, err
	}
	return far.address() + "/", end, nil
}

// seed publishes the scenario over HTTP, at an address that nobody else knows.
func (h *house) seed(ctx context.Context, clock *demo.Clock, others demo.Others) error {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return err
	}
	server := &http.Server{Handler: h.web.Handler(), ReadHeaderTimeout: time.Minute}
	served := make(chan error, 1)
	go func() { served <- server.Serve(l) }()
	background, stop := context.WithCancel(ctx)
	finished := make(chan struct{})
	go func() {
		defer close(finished)
		h.service.Run(background)
	}()
	err = demo.Seed(ctx, h.service, "http://"+l.Addr().String(), clock, others)
	stop()
	<-finished
	err = errors.Join(err, server.Close())
	if serveErr := <-served; !errors.Is(serveErr, http.ErrServerClosed) {
		err = errors.Join(err, serveErr)
	}
	return err
}

func (h *house) welcome(cmd *cobra.Command, token string, shore standing, far string) {
	program := os.Args[0]
	environment := "CRELVO_TOKEN=" + token
	if h.address() != defaultServer {
		environment += " CRELVO_SERVER=" + h.address()
	}
	lines := []string{
		"ready on " + h.address(),
		"",
		"  Console:  " + h.address(),
		"  Sign in:  " + demo.User + " / " + demo.Password,
		"",
		"  Try next, in another terminal:",
		"    " + environment + " " + program + " repo list",
		"    " + environment + " " + program + " show pkg:maven/example.skerry.berth/berth-planner",
		"    curl -u admin:" + token + " " + h.address() +
			"/at/snapshots/maven/example/skerry/berth/tide-model/maven-metadata.xml",
		"",
		"    " + environment + " " + program + " explain pkg:maven/org.openshore/brine-http@2.1.1 --in platform",
		"",
		"  A stand-in for the public sources is at " + shore.address + "; to see it fail:",
		"    " + program + " demo fault error --at " + shore.control,
		"    " + environment + " " + program + " mirror show shore-maven",
		"",
		"  The far site, another Crelvo, is at " + far + "; what is sent there, and what failed:",
		"    " + environment + " " + program + " relay list",
		"",
		"  Ctrl-C stops it.",
	}
	fmt.Fprintln(cmd.OutOrStdout(), strings.Join(lines, "\n"))
}
