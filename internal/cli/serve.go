package cli

import (
	"cmp"
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"net"
	"net/netip"
	"net/url"
	"os"
	"path/filepath"
	"reflect"
	"runtime/debug"
	"strconv"
	"strings"
	"time"

	"github.com/goccy/go-yaml"
	"github.com/knadh/koanf/providers/env/v2"
	"github.com/knadh/koanf/providers/file"
	"github.com/knadh/koanf/providers/posflag"
	"github.com/knadh/koanf/v2"
	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"crelvo/console"
	"crelvo/internal/api"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/query"
	"crelvo/internal/record"
	"crelvo/internal/record/privatepg"
	"crelvo/internal/service"
	"crelvo/internal/service/act"
	"crelvo/internal/service/rights"
	"crelvo/internal/store"
	"crelvo/internal/web"
)

// serveSettings are the settings of a service, by flags, environment
// (CRELVO_DATA, …) and a YAML file with the same names.
type serveSettings struct {
	Data           string        `koanf:"data"`
	Listen         string        `koanf:"listen"`
	Database       string        `koanf:"database"`
	PublicURL      string        `koanf:"public-url"`
	QuietPeriod    time.Duration `koanf:"quiet-period"`
	LongestToken   string        `koanf:"longest-token"`
	LargestFile    string        `koanf:"largest-file"`
	Memory         string        `koanf:"memory"`
	Store          string        `koanf:"store"`
	Cache          string        `koanf:"cache"`
	BackgroundRate string        `koanf:"background-rate"`
	VerifyEvery    string        `koanf:"verify-every"`
	BackupTo       string        `koanf:"backup-to"`
	BackupEvery    string        `koanf:"backup-every"`
	BackupKeep     int           `koanf:"backup-keep"`
	BackupSecret   string        `koanf:"backup-passphrase-file"`
	AdoptStore     bool          `koanf:"adopt-store"`
	LoseSecrets    bool          `koanf:"lose-secrets"`
	Proxies        []string      `koanf:"trusted-proxies"`
	Certificate    string        `koanf:"tls-certificate"`
	CertificateKey string        `koanf:"tls-key"`
	NodeName       string        `koanf:"node-name"`
	Drain          time.Duration `koanf:"drain"`
	KeyFile        string        `koanf:"key-file"`
	LogLevel       string        `koanf:"log-level"`
	LogFormat      string        `koanf:"log-format"`
	MetricsListen  string        `koanf:"metrics-listen"`
	TracesTo       string        `koanf:"traces-to"`
}

func serveFlags(cmd *cobra.Command, data, logLevel string) {
	f := cmd.Flags()
	f.String("config", "", "a YAML file with these settings (CRELVO_CONFIG)")
	f.String("data", data, "the folder to keep everything in")
	f.String("listen", "127.0.0.1:8700", "the address to answer on")
	f.String("database", "", "the address of a PostgreSQL database (default: a private server in the data folder)")
	f.String("public-url", "", "how clients reach the service (default: as they asked)")
	f.Duration("quiet-period", time.Minute, "after how long without a new file a version counts as complete")
	f.String("longest-token", "366d", "how long a token may last at most, such as 30d")
	f.String("store", "",
		"where bytes are kept, if nothing was kept yet: the whole path of a folder that all nodes share, or "+
			"s3+https://HOST/BUCKET/PREFIX?region=REGION (default: a folder in the data folder)")
	f.String("cache", "10GiB",
		"how much may be kept in the data folder of what is read from each object store; 0 for nothing")
	f.String("background-rate", "100MiB",
		"how much a second is read for what nobody waits for, such as moving bytes to another store; 0 is no limit")
	f.String("verify-every", "30d", "how often all that is stored is read, compared and mended by itself; 0 is never")
	f.String("backup-to", "",
		"where backups are made by themselves: the whole path of a folder, or s3+https://HOST/BUCKET/PREFIX?region=REGION")
	f.String("backup-every", "1d", "how often, where --backup-to is given")
	f.Int("backup-keep", 14, "how many backups are kept; 0 is all")
	f.String("backup-passphrase-file", "",
		"a file with a passphrase that the server's key is sealed with into each backup; without it the key is not in it")
	f.Bool("adopt-store", false,
		"use a store although it is not the one of the database; for when that one was lost")
	f.Bool("lose-secrets", false,
		"forget credentials and keys that the key file cannot open; for when the right one was lost")
	f.String("largest-file", "20GiB", "the largest file that may be published where its repository does not say it")
	f.String("memory", "", "about how much memory the service may take, PostgreSQL's not counted, such as 1GiB (default: a "+
		"quarter of what the machine has, 512MiB at most)")
	f.StringSlice("trusted-proxies", nil,
		"addresses or networks of proxies that are believed about where requests come from and how clients reach them, "+
			"such as 10.0.0.5 or 10.0.0.0/24; none unless named")
	f.String("tls-certificate", "",
		"a PEM file with the certificate of the server, to answer over TLS; it is read again when it changes")
	f.String("tls-key", "", "a PEM file with the key of the certificate")
	f.String("node-name", "", "how people call this node among several (default: the name of the machine)")
	f.Duration("drain", 30*time.Second, "how long running requests may take to finish when the service stops")
	f.String("key-file", "",
		"the key that encrypts credentials for upstreams; all nodes need the same (default: secret-key in the data folder)")
	f.String("log-level", logLevel, "debug, info, warn or error")
	f.String("log-format", "text", "text or json")
	f.String("metrics-listen", "",
		"another address, such as 127.0.0.1:8701, that answers /metrics to whoever can reach it, without signing in")
	f.String("traces-to", "",
		"where to send traces by OpenTelemetry, as OTLP over HTTP, such as http://127.0.0.1:4318; nowhere unless given")
}

type yamlParser struct{}

func (yamlParser) Unmarshal(raw []byte) (map[string]any, error) {
	out := map[string]any{}
	return out, yaml.Unmarshal(raw, &out)
}

func (yamlParser) Marshal(in map[string]any) ([]byte, error) { return yaml.Marshal(in) }

func readSettings(cmd *cobra.Command) (serveSettings, error) {
	var s serveSettings
	k := koanf.New(".")
	path, err := cmd.Flags().GetString("config")
	if err != nil {
		return s, err
	}
	if path == "" {
		path = os.Getenv("CRELVO_CONFIG")
	}
	if path != "" {
		if err := k.Load(file.Provider(path), yamlParser{}); err != nil {
			return s, fault.New(fault.Invalid, "bad-config", "the settings in %s cannot be read: %v", path, err)
		}
		for _, name := range k.Keys() {
			if cmd.Flags().Lookup(name) == nil || name == "config" {
				return s, usageError{fault.New(fault.Invalid, "bad-config", "%s has %q, which is no setting", path, name).
					WithHint("%s", meant("--"+name, flagNames(cmd), "crelvo serve --help lists them."))}
			}
		}
	}
	fromEnvironment := env.Provider(".", env.Opt{Prefix: "CRELVO_", TransformFunc: func(name, value string) (string, any) {
		return strings.ReplaceAll(strings.ToLower(strings.TrimPrefix(name, "CRELVO_")), "_", "-"), value
	}})
	if err := k.Load(fromEnvironment, nil); err != nil {
		return s, err
	}
	// Flags that were not given count only where nothing else was said.
	if err := k.Load(posflag.Provider(cmd.Flags(), ".", k), nil); err != nil {
		return s, err
	}
	if err := k.Unmarshal("", &s); err != nil {
		return s, fault.New(fault.Invalid, "bad-settings", "the settings cannot be used: %v", err)
	}
	return s, checkPublicURL(s.PublicURL)
}

func flagNames(cmd *cobra.Command) (names []string) {
	cmd.Flags().VisitAll(func(f *pflag.Flag) { names = append(names, "--"+f.Name) })
	return names
}

// checkPublicURL refuses what is no address of a web server.
func checkPublicURL(text string) error {
	if text == "" {
		return nil
	}
	u, err := url.Parse(text)
	if err == nil && (u.Scheme == "http" || u.Scheme == "https") && u.Host != "" && u.User == nil && u.RawQuery == "" &&
		u.Fragment == "" && strings.Trim(u.Path, "/") == "" {
		return nil
	}
	return usageError{
		fmt.Errorf("--public-url cannot be %q; write it like https://packages.skerry.example, with nothing behind the host",
			text)}
}

func serveCommand() *cobra.Command {
	cmd := &cobra.Command{Use: "serve", Short: "Run the service", Args: arguments(cobra.NoArgs),
		Long: "Run the service. Every flag is also an environment variable (--public-url is CRELVO_PUBLIC_URL)\n" +
			"and a name in the YAML file that --config gives. CRELVO_ADMIN_PASSWORD and CRELVO_ADMIN_TOKEN set\n" +
			"how the first user, admin, signs in; without them a password is made and shown once.",
		RunE: func(cmd *cobra.Command, _ []string) error {
			settings, err := readSettings(cmd)
			if err != nil {
				return err
			}
			h, err := openHouse(cmd.Context(), settings, cmd.ErrOrStderr(), nil)
			if err != nil {
				return err
			}
			first, err := h.service.Rights.Bootstrap(cmd.Context(), os.Getenv("CRELVO_ADMIN_PASSWORD"),
				os.Getenv("CRELVO_ADMIN_TOKEN"))
			if err == nil && first.Password != "" {
				err = tellFirstSignIn(cmd.OutOrStdout(), settings.Data, first)
			}
			if err != nil {
				return errors.Join(err, h.close())
			}
			return h.run(cmd.Context(), func() { fmt.Fprintf(cmd.OutOrStdout(), "ready on %s\n", h.address()) })
		}}
	serveFlags(cmd, "./crelvo-data", "info")
	return cmd
}

func tellFirstSignIn(w io.Writer, data string, first rights.FirstSignIn) error {
	path := filepath.Join(data, "first-sign-in")
	if err := os.WriteFile(path, fmt.Appendf(nil, "name: %s\npassword: %s\n", first.Name, first.Password),
		0o600); err != nil {
		return err
	}
	fmt.Fprintf(w, "first sign-in: name %s, password %s (shown once; also in %s)\n", first.Name, first.Password, path)
	return nil
}

// parseNetworks reads addresses and networks.
func parseNetworks(texts []string) ([]netip.Prefix, error) {
	var all []netip.Prefix
	for _, text := range texts {
		text = strings.TrimSpace(text)
		if text == "" {
			continue
		}
		if a, err := netip.ParseAddr(text); err == nil {
			all = append(all, netip.PrefixFrom(a, a.BitLen()))
			continue
		}
		p, err := netip.ParsePrefix(text)
		if err != nil {
			return nil, usageError{
				fmt.Errorf("--trusted-proxies cannot be %q; write addresses or networks, such as 10.0.0.5 or 10.0.0.0/24", text)}
		}
		all = append(all, p)
	}
	return all, nil
}

// house is a running service with all that it stands on.
type house struct {
	settings  serveSettings
	log       *slog.Logger
	written   *late // the log
	endTraces func() error
	lock      *os.File
	listener  net.Listener
	encrypted bool         // what comes in by the listener
	figures   net.Listener // for metrics alone; nil without
	postgres  *privatepg.Server
	db        *record.DB
	folder    *store.Folder
	service   *service.Service
	web       *web.Server
}

// reserve is how much of the disk files leave free for the database beside them, so
// that what is to be removed can be removed.
const reserve = 512 << 20

// openHouse starts everything but does not answer yet. now may be nil.
func openHouse(
	ctx context.Context, settings serveSettings, logTo io.Writer, now func() time.Time,
) (_ *house, err error) {
	h := &house{settings: settings}
	if h.log, h.written, err = newLog(logTo, settings); err != nil {
		return nil, err
	}
	defer func() {
		if err != nil {
			err = errors.Join(err, h.close())
		}
	}()
	if err = h.startTraces(ctx); err != nil {
		return nil, err
	}
	if h.lock, err = lockFolder(settings.Data); err != nil {
		return nil, err
	}
	if h.listener, err = net.Listen("tcp", settings.Listen); err != nil {
		return nil, web.ListenFault(settings.Listen, err)
	}
	listener, err := overTLS(h.listener, settings, h.log)
	if err != nil {
		return nil, err
	}
	h.listener, h.encrypted = listener, listener != h.listener
	if settings.MetricsListen != "" {
		if h.figures, err = net.Listen("tcp", settings.MetricsListen); err != nil {
			return nil, web.ListenFault(settings.MetricsListen, err)
		}
	}
	database := settings.Database
	if database == "" {
		if h.postgres, err = privatepg.Start(ctx, filepath.Join(settings.Data, "postgres")); err != nil {
			return nil, err
		}
		database = h.postgres.URL
	}
	if h.db, err = record.Open(ctx, database); err != nil {
		return nil, databaseFault(err)
	}
	if h.folder, err = store.OpenFolder(filepath.Join(settings.Data, "store")); err != nil {
		return nil, err
	}
	h.folder.Reserve = reserve
	proxies, err := parseNetworks(settings.Proxies)
	if err != nil {
		return nil, err
	}
	of, err := settings.ofService(h.listener.Addr())
	if err != nil {
		return nil, err
	}
	of.Log, of.Now = h.log, now
	if h.service, err = service.New(ctx, h.db, h.folder, of); err != nil {
		return nil, err
	}
	h.web = web.New(h.service, web.Settings{PublicURL: settings.PublicURL, TrustedProxies: proxies, Version: Version,
		Log: h.log, Console: console.Files(), Secrets: given("CRELVO_ADMIN_TOKEN", "CRELVO_ADMIN_PASSWORD")})
	return h, nil
}

// given are the values of those variables of the environment that are set.
func given(names ...string) (values []string) {
	for _, name := range names {
		if value := os.Getenv(name); value != "" {
			values = append(values, value)
		}
	}
	return values
}

// ofService are the settings of the service that answers at an address.
func (s serveSettings) ofService(at net.Addr) (of act.Settings, err error) {
	key, err := secretKey(cmp.Or(s.KeyFile, filepath.Join(s.Data, "secret-key")))
	if err != nil {
		return of, err
	}
	longest, err := parseDuration(cmp.Or(s.LongestToken, "366d"))
	if err != nil || longest == 0 {
		return of, usageError{fmt.Errorf("--longest-token cannot be %q; write it like 30d", s.LongestToken)}
	}
	verify, err := parseDuration(cmp.Or(s.VerifyEvery, "0"))
	if err != nil {
		return of, usageError{fmt.Errorf("--verify-every cannot be %q; write it like 30d", s.VerifyEvery)}
	}
	backupEvery, err := parseDuration(cmp.Or(s.BackupEvery, "1d"))
	if err != nil || backupEvery < time.Minute {
		return of, usageError{fmt.Errorf("--backup-every cannot be %q; write it like 1d or 6h", s.BackupEvery)}
	}
	passphrase := ""
	if s.BackupSecret != "" {
		raw, err := os.ReadFile(s.BackupSecret)
		if err != nil {
			return of, fault.New(fault.Invalid, "no-passphrase", "--backup-passphrase-file cannot be read: %v", pathless(err))
		}
		if passphrase = strings.TrimRight(string(raw), "\r\n"); len(passphrase) < leastPassphrase {
			return of, usageError{fmt.Errorf("the passphrase of backups must have at least %d characters", leastPassphrase)}
		}
	}
	memory := defaultMemory(machineMemory())
	if s.Memory != "" {
		var ok bool
		if memory, ok = query.ParseBytes(s.Memory); !ok || memory < leastMemory {
			return of, usageError{fmt.Errorf("--memory cannot be %q; write it like 512MiB, and no less than %s", s.Memory,
				api.Bytes(leastMemory))}
		}
	}
	machine := machineName()
	of = act.Settings{QuietPeriod: s.QuietPeriod, SecretKey: key, Version: Version, LongestToken: longest,
		AdoptStore: s.AdoptStore, LoseSecrets: s.LoseSecrets, Folder: s.Data, Reserve: reserve,
		FirstStore: s.Store, VerifyEvery: verify,
		BackupTo: s.BackupTo, BackupEvery: backupEvery, BackupKeep: s.BackupKeep, BackupPassphrase: passphrase,
		Described: s.described(),
		NodeName:  cmp.Or(s.NodeName, machine), NodeAddress: nodeAddress(at, machine), Memory: limitMemory(memory)}
	for _, size := range []struct {
		flag, text, like string
		least            int64
		into             *int64
	}{{"largest-file", cmp.Or(s.LargestFile, "20GiB"), "2GiB", 1, &of.LargestFile},
		{"cache", cmp.Or(s.Cache, "0"), "10GiB", 0, &of.Cache},
		{"background-rate", cmp.Or(s.BackgroundRate, "0"), "100MiB", 0, &of.Rate}} {
		var ok bool
		if *size.into, ok = query.ParseBytes(size.text); !ok || *size.into < size.least {
			return of, usageError{fmt.Errorf("--%s cannot be %q; write it like %s", size.flag, size.text, size.like)}
		}
	}
	return of, nil
}

// leastPassphrase is how long a passphrase is at least.
const leastPassphrase = 12

// described are the settings as a YAML file has them, for a backup: without the address of
// the database, which may have a password in it.
func (s serveSettings) described() string {
	s.Database = ""
	all := map[string]any{}
	is := reflect.ValueOf(s)
	for i := range is.NumField() {
		if name := is.Type().Field(i).Tag.Get("koanf"); !is.Field(i).IsZero() {
			all[name] = is.Field(i).Interface()
		}
	}
	raw, err := yaml.Marshal(all)
	if err != nil {
		return ""
	}
	return string(raw)
}

// machineName is what the machine calls itself.
func machineName() string {
	name, err := os.Hostname()
	if err != nil {
		return "unnamed"
	}
	return name
}

// nodeAddress is where a node answers itself: by the name of the machine, if it does so
// everywhere.
func nodeAddress(at net.Addr, machine string) string {
	if tcp, ok := at.(*net.TCPAddr); ok && tcp.IP.IsUnspecified() {
		return net.JoinHostPort(machine, strconv.Itoa(tcp.Port))
	}
	return at.String()
}

// secretKey reads a key of 32 bytes in hexadecimal, and makes it if there is
// none.
func secretKey(path string) (key [32]byte, err error) {
	raw, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) {
		rand.Read(key[:]) // it never fails
		return key, os.WriteFile(path, []byte(hex.EncodeToString(key[:])+"\n"), 0o600)
	}
	if err != nil {
		return key, err
	}
	decoded, err := hex.DecodeString(strings.TrimSpace(string(raw)))
	if err != nil || len(decoded) != len(key) {
		return key, fault.New(fault.Internal, "bad-key", "%s holds no key", path).
			WithHint("It must be 64 hexadecimal digits. Without the right key the credentials for upstreams must be set again.")
	}
	return [32]byte(decoded), nil
}

func databaseFault(err error) error {
	if errors.Is(err, record.ErrNewer) {
		return fault.New(fault.Internal, "database-newer", "%v", err).
			WithHint("Start the newer program, or restore a backup made before it ran.")
	}
	if record.Unreachable(err) {
		return fault.New(fault.Internal, "no-database", "the database cannot be reached: %v", err).
			WithHint("Check the address that --database gives.")
	}
	return err
}

// lockFolder makes the data folder and makes sure that no other process uses it.
func lockFolder(dir string) (*os.File, error) {
	unwritable := func(err error) error {
		return fault.New(fault.Internal, "folder-not-writable", "cannot write to the data folder %s: %v", dir, pathless(err)).
			WithHint("Choose another with --data, or change who may write there.")
	}
	// A private PostgreSQL may run as another account, which must get through.
	if err := os.MkdirAll(dir, 0o711); err != nil {
		return nil, unwritable(err)
	}
	lock, err := os.OpenFile(filepath.Join(dir, "lock"), os.O_RDWR|os.O_CREATE, 0o600)
	if err != nil {
		return nil, unwritable(err)
	}
	if err := lockFile(lock); err != nil {
		raw, readErr := io.ReadAll(lock)
		who := "another Crelvo"
		if readErr == nil && len(raw) > 0 {
			who += " (process " + strings.TrimSpace(string(raw)) + ")"
		}
		lock.Close()
		return nil, fault.New(fault.Internal, "folder-in-use", "%s uses the data folder %s", who, dir).
			WithHint("Stop it, or choose another folder with --data.")
	}
	if err := lock.Truncate(0); err != nil {
		return nil, errors.Join(unwritable(err), lock.Close())
	}
	if _, err := fmt.Fprintln(lock, os.Getpid()); err != nil {
		return nil, errors.Join(unwritable(err), lock.Close())
	}
	return lock, nil
}

func pathless(err error) error {
	var p *fs.PathError
	if errors.As(err, &p) {
		return p.Err
	}
	return err
}

func (h *house) address() string {
	if h.settings.PublicURL != "" {
		return h.settings.PublicURL
	}
	if h.encrypted {
		return "https://" + h.listener.Addr().String()
	}
	return "http://" + h.listener.Addr().String()
}

// run answers until ctx ends, and then closes everything in order.
func (h *house) run(ctx context.Context, ready func()) error {
	serving, stop := context.WithCancelCause(ctx)
	defer stop(nil)
	if h.postgres != nil {
		go func() {
			select {
			case <-h.postgres.Done():
				stop(fmt.Errorf("the private PostgreSQL ended by itself; %s says why", h.postgres.Log))
			case <-serving.Done():
			}
		}()
	}
	// The background goes on until the last request is answered.
	background, stopBackground := context.WithCancel(context.WithoutCancel(ctx))
	finished := make(chan struct{})
	go returnMemory(background)
	go func() {
		defer close(finished)
		h.service.Run(background)
	}()
	if h.figures != nil {
		go h.serveFigures()
	}
	debug.FreeOSMemory() // hashing passwords at the start took some
	ready()
	err := h.web.Serve(serving, h.listener, h.settings.Drain)
	stopBackground()
	<-finished
	if ctx.Err() == nil {
		err = errors.Join(err, context.Cause(serving))
	}
	return errors.Join(err, h.close())
}

// close stops what was started, in the opposite order.
func (h *house) close() error {
	var errs []error
	for _, l := range []net.Listener{h.listener, h.figures} {
		if l == nil {
			continue
		}
		if err := l.Close(); err != nil && !errors.Is(err, net.ErrClosed) {
			errs = append(errs, err)
		}
	}
	if h.folder != nil {
		errs = append(errs, h.folder.Close())
	}
	if h.db != nil {
		errs = append(errs, h.db.Close())
	}
	if h.postgres != nil {
		errs = append(errs, h.postgres.Stop())
	}
	if h.lock != nil {
		errs = append(errs, h.lock.Close())
	}
	if h.endTraces != nil {
		if err := h.endTraces(); err != nil {
			h.log.Warn("some traces could not be sent", "error", err)
		}
	}
	if h.written != nil {
		errs = append(errs, h.written.Flush())
	}
	return errors.Join(errs...)
}
