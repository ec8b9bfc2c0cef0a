package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"crelvo/internal/core/fault"
	"crelvo/internal/demo"
	"crelvo/internal/web"
)

func demoCommand() *cobra.Command {
	var publicMaven string
	cmd := &cobra.Command{Use: "demo", Short: "Run the service with demo data", Args: arguments(cobra.NoArgs),
		Long: "Run the service with the data of a made-up ferry operator, in a temporary folder or the one\n" +
			"that --data gives. The flags, and the environment, are those of crelvo serve.",
		RunE: func(cmd *cobra.Command, _ []string) error {
			settings, err := readSettings(cmd)
			if err != nil {
				return err
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
			clock := new(demo.Clock)
			h, err := openHouse(cmd.Context(), settings, cmd.ErrOrStderr(), clock.Now)
			if err != nil {
				return err
			}
			password, token := cmp.Or(os.Getenv("CRELVO_ADMIN_PASSWORD"), demo.Password), cmp.Or(os.Getenv("CRELVO_ADMIN_TOKEN"), demo.Token)
			if _, err := h.service.Bootstrap(cmd.Context(), password, token); err != nil {
				return errors.Join(err, h.close())
			}
			if err := h.seed(cmd.Context(), clock); err != nil {
				return errors.Join(err, h.close())
			}
			if publicMaven != "" {
				stop, err := servePublicMaven(publicMaven)
				if err != nil {
					return errors.Join(err, h.close())
				}
				defer stop()
			}
			return h.run(cmd.Context(), func() { h.welcome(cmd, token) })
		}}
	serveFlags(cmd, "", "warn")
	cmd.Flags().StringVar(&publicMaven, "public-maven", "", "also stand in for a public Maven repository at this address, with Debian's Maven tree")
	must(cmd.Flags().MarkHidden("config"))
	return cmd
}

// servePublicMaven stands in for a public repository until stop is called.
func servePublicMaven(address string) (stop func() error, err error) {
	if _, err := os.Stat(demo.MavenTree); err != nil {
		return nil, fault.New(fault.Internal, "no-maven-tree", "there is no Maven tree at %s", demo.MavenTree).
			WithHint("Install Debian's maven package, or leave out --public-maven.")
	}
	l, err := net.Listen("tcp", address)
	if err != nil {
		return nil, web.ListenFault(address, err)
	}
	server := &http.Server{Handler: demo.MavenPublic(demo.MavenTree), ReadHeaderTimeout: time.Minute}
	go func() { _ = server.Serve(l) }() // it ends with Close
	return server.Close, nil
}

// seed publishes the scenario over HTTP, at an address that nobody else knows.
func (h *house) seed(ctx context.Context, clock *demo.Clock) error {
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
	err = demo.Seed(ctx, h.service, "http://"+l.Addr().String(), clock)
	stop()
	<-finished
	err = errors.Join(err, server.Close())
	if serveErr := <-served; !errors.Is(serveErr, http.ErrServerClosed) {
		err = errors.Join(err, serveErr)
	}
	return err
}

func (h *house) welcome(cmd *cobra.Command, token string) {
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
		"    curl -u admin:" + token + " " + h.address() + "/at/snapshots/maven/example/skerry/berth/tide-model/maven-metadata.xml",
		"",
		"  Ctrl-C stops it.",
	}
	fmt.Fprintln(cmd.OutOrStdout(), strings.Join(lines, "\n"))
}
