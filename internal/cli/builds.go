package cli

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"crelvo/internal/api"
	"crelvo/internal/client"
	"crelvo/internal/core/purl"
)

func buildCommand(s *session) *cobra.Command {
	return group("build", "Record builds of CI, show and compare them", buildBegin(s), buildRecord(s), buildAttach(s),
		buildShow(s), buildLicences(s), buildList(s), buildCompare(s), buildNames(s), buildGive(s), buildRemove(s))
}

// ciVariable is what CI systems tell about a build, and in which of their variables;
// the first one that is set counts.
type ciVariable struct {
	what  string
	names []string
}

// ciVariables are those of the common CI systems.
var ciVariables = []ciVariable{
	{"project", []string{"CI_PROJECT_PATH", "CI_REPO", "GITHUB_REPOSITORY", "BITBUCKET_REPO_FULL_NAME",
		"CIRCLE_PROJECT_REPONAME", "BUILD_REPOSITORY_NAME", "DRONE_REPO", "JOB_NAME", "CI_PROJECT_NAME", "CI_REPO_NAME"}},
	{"workflow", []string{"GITHUB_WORKFLOW", "CI_WORKFLOW_NAME", "BUILD_DEFINITIONNAME", "CIRCLE_JOB"}},
	{"number", []string{"CI_PIPELINE_IID", "CI_PIPELINE_NUMBER", "GITHUB_RUN_NUMBER", "BITBUCKET_BUILD_NUMBER",
		"CIRCLE_BUILD_NUM", "BUILD_BUILDID", "DRONE_BUILD_NUMBER", "BUILD_NUMBER"}},
	{"revision", []string{"CI_COMMIT_SHA", "GITHUB_SHA", "BITBUCKET_COMMIT", "CIRCLE_SHA1", "BUILD_SOURCEVERSION",
		"DRONE_COMMIT_SHA", "GIT_COMMIT"}},
	{"branch", []string{"CI_COMMIT_REF_NAME", "CI_COMMIT_BRANCH", "GITHUB_REF_NAME", "BITBUCKET_BRANCH", "CIRCLE_BRANCH",
		"BUILD_SOURCEBRANCHNAME", "DRONE_BRANCH", "BRANCH_NAME", "GIT_BRANCH"}},
	{"link", []string{"CI_PIPELINE_URL", "CIRCLE_BUILD_URL", "DRONE_BUILD_LINK", "BUILD_URL"}},
	{"agent", []string{"CI_RUNNER_DESCRIPTION", "RUNNER_NAME", "AGENT_NAME", "CI_SYSTEM_HOST", "NODE_NAME"}},
	{"started", []string{"CI_PIPELINE_CREATED_AT", "CI_PIPELINE_STARTED", "DRONE_BUILD_STARTED"}},
}

// ciTable lists what is read from where, for the help.
func ciTable() string {
	var b strings.Builder
	for _, v := range ciVariables {
		fmt.Fprintf(&b, "  %-9s %s\n", v.what, strings.Join(v.names, " "))
	}
	return b.String()
}

// fromCI is what the environment tells, or "".
func fromCI(what string) string {
	for _, v := range ciVariables {
		for _, name := range v.names {
			if value := os.Getenv(name); v.what == what && value != "" {
				return value
			}
		}
	}
	switch run, project := os.Getenv("GITHUB_RUN_ID"), os.Getenv("GITHUB_REPOSITORY"); {
	case what == "link" && run != "" && project != "":
		return strings.TrimSuffix(cmp.Or(os.Getenv("GITHUB_SERVER_URL"), "https://github.com"), "/") + "/" + project +
			"/actions/runs/" + run
	}
	return ""
}

// nameFromCI is the name of the build that runs: its project and, where the CI system
// has several in one project, its workflow. Two projects often call their workflow
// alike.
func nameFromCI() string {
	project, workflow := fromCI("project"), fromCI("workflow")
	if project == "" || workflow == "" || workflow == project {
		return cmp.Or(project, workflow)
	}
	return project + "/" + workflow
}

// buildTitle is the build that a command is about: its argument, or the one that
// runs by the environment.
func buildTitle(args []string) (string, error) {
	title := ""
	if len(args) > 0 {
		title = args[0]
	} else if name, number := nameFromCI(), fromCI("number"); name != "" && number != "" {
		title = name + "#" + number
	}
	if !strings.Contains(title, "#") {
		return "", usageError{fmt.Errorf("say which build: NAME#NUMBER; the environment does not tell")}
	}
	return title, nil
}

// parseStart reads when a build began: RFC 3339, or seconds since 1970.
func parseStart(text string) (*time.Time, error) {
	if text == "" {
		return nil, nil
	}
	if seconds, err := strconv.ParseInt(text, 10, 64); err == nil {
		at := time.Unix(seconds, 0)
		return &at, nil
	}
	at, err := parseSince(text)
	return &at, err
}

func buildBegin(s *session) *cobra.Command {
	return &cobra.Command{Use: "begin [NAME#NUMBER]",
		Short:   "Begin a build: what is published with the token belongs to it until it is recorded",
		Args:    arguments(cobra.MaximumNArgs(1)),
		Example: "  crelvo build begin 'berth-planner#118'",
		RunE: func(cmd *cobra.Command, args []string) error {
			title, err := buildTitle(args)
			if err != nil {
				return err
			}
			return answer(s, cmd, func(ctx context.Context, c *client.Client) (api.BegunBuild, error) {
				return c.BeginBuild(ctx, title)
			}, func(w io.Writer, b api.BegunBuild) {
				fmt.Fprintf(w, "%s began at %s.\n", title, timeText(b.StartedAt))
				if len(b.Beside) > 0 {
					fmt.Fprintf(cmd.ErrOrStderr(),
						"%s runs with the same token: what is published belongs to none of them unless the upload says to which (the "+
							"header %s). Use a token for each, or record that one first.\n",
						strings.Join(b.Beside, ", "), api.BuildHeader)
				}
				fmt.Fprintf(cmd.ErrOrStderr(), "When it has published everything: crelvo build record '%s'\n", title)
			})
		}}
}

func buildRecord(s *session) *cobra.Command {
	var r api.BuildReport
	var started string
	var reports, documents, notes []string
	cmd := &cobra.Command{Use: "record [NAME#NUMBER] [FILE|PURL…]",
		Short: "Record a build: what it made and used, and how its tests went", Args: arguments(cobra.ArbitraryArgs),
		Long: "Record a build. Without files or package URLs, what was published with the token since the build began is\n" +
			"what it made, and what was downloaded with it is what it used. Values that are not given are taken from the\n" +
			"environment of CI systems that tell them there. Recording again adds to what is on record.\n\n" +
			"What is read from the environment, the first variable that is set; the name is that of the project and the " +
			"workflow:\n" + ciTable(),
		Example: "  crelvo build record 'berth-planner#118' --junit 'target/surefire-reports/*.xml'\n" +
			"  crelvo build record --name berth-planner --number 118 --revision 4be1c0f --link https://ci.skerry.example/118 " +
			"target/*.jar",
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := completeReport(&r, args, started, notes, reports); err != nil {
				return err
			}
			return answer(s, cmd, func(ctx context.Context, c *client.Client) (api.Build, error) {
				b, err := c.RecordBuild(ctx, r)
				for _, path := range documents {
					if err != nil {
						return b, err
					}
					err = attachFile(ctx, c, r.Name+"#"+r.Number, path)
				}
				return b, err
			}, func(w io.Writer, b api.Build) {
				fmt.Fprintf(w, "Recorded %s#%s, which made %s.\n", b.Name, b.Number, count(b.Made, "version"))
				if b.Tests != nil {
					fmt.Fprintln(w, "Tests: "+testsText(b))
				}
				if b.Made == 0 {
					fmt.Fprintln(cmd.ErrOrStderr(),
						"Nothing was published with this token since it began; name files or package URLs if something was with another.")
				}
			})
		}}
	f := cmd.Flags()
	f.StringVar(&r.Name, "name", "", "of the build")
	f.StringVar(&r.Number, "number", "", "of this run")
	f.StringVar(&r.Revision, "revision", "", "of the source code")
	f.StringVar(&r.Branch, "branch", "", "of the source code")
	f.StringVar(&r.Link, "link", "", "the page of the CI system")
	f.StringVar(&r.Agent, "agent", "", "where it ran")
	f.StringVar(&started, "started", "", "when it began: 2026-11-01T08:00:00Z, or seconds since 1970")
	f.StringArrayVar(&notes, "note", nil, "on the environment, as NAME=VALUE; may be repeated")
	f.StringArrayVar(&reports, "junit", nil, "a file of test results as JUnit XML, or a pattern; may be repeated")
	f.StringArrayVar(&r.Used, "used", nil,
		"the package URL of what it used, besides what was downloaded with the token; may be repeated")
	f.StringArrayVar(&documents, "attach", nil, "an in-toto statement, CycloneDX or SPDX file; may be repeated")
	f.StringVar(&r.In, "in", "", "the repository that package URLs are looked for in")
	must(cmd.RegisterFlagCompletionFunc("in", s.completeRepositories))
	return cmd
}

// completeReport puts together what is said of a build: by flags, by arguments, and by the
// environment of its CI system.
func completeReport(r *api.BuildReport, args []string, started string, notes, reports []string) error {
	if len(args) > 0 && strings.Contains(args[0], "#") && !strings.HasPrefix(args[0], "pkg:") && !exists(args[0]) {
		r.Name, args = args[0], args[1:]
	}
	if i := strings.LastIndexByte(r.Name, '#'); i >= 0 {
		r.Name, r.Number = r.Name[:i], cmp.Or(r.Number, r.Name[i+1:])
	}
	r.Name, r.Number = cmp.Or(r.Name, nameFromCI()), cmp.Or(r.Number, fromCI("number"))
	if r.Name == "" || r.Number == "" {
		return usageError{fmt.Errorf("say which build: --name NAME --number NUMBER; the environment does not tell")}
	}
	r.Revision, r.Branch, r.Link, r.Agent = cmp.Or(r.Revision, fromCI("revision")), cmp.Or(r.Branch, fromCI("branch")),
		cmp.Or(r.Link, fromCI("link")), cmp.Or(r.Agent, fromCI("agent"))
	var err error
	if r.StartedAt, err = parseStart(cmp.Or(started, fromCI("started"))); err != nil {
		return err
	}
	if r.Notes, err = parsePairs(notes); err != nil {
		return err
	}
	for _, pattern := range reports {
		texts, err := readAll(pattern)
		if err != nil {
			return err
		}
		r.JUnit = append(r.JUnit, texts...)
	}
	for _, arg := range args {
		if strings.HasPrefix(arg, "pkg:") {
			r.Made = append(r.Made, arg)
			continue
		}
		sum, err := digestOf(arg)
		if err != nil {
			return err
		}
		r.Digests = append(r.Digests, sum)
	}
	return nil
}

func exists(path string) bool {
	_, err := os.Stat(path)
	return err == nil
}

func parsePairs(texts []string) (map[string]string, error) {
	pairs := map[string]string{}
	for _, text := range texts {
		name, value, ok := strings.Cut(text, "=")
		if !ok || name == "" {
			return nil, usageError{fmt.Errorf("%q is not NAME=VALUE", text)}
		}
		pairs[name] = value
	}
	return pairs, nil
}

// readAll reads the files that a pattern names.
func readAll(pattern string) ([]string, error) {
	paths, err := filepath.Glob(pattern)
	if err != nil {
		return nil, usageError{fmt.Errorf("%q is no pattern of files: %w", pattern, err)}
	}
	if len(paths) == 0 {
		return nil, fmt.Errorf("there is no file %s", pattern)
	}
	var texts []string
	for _, path := range paths {
		raw, err := os.ReadFile(path)
		if err != nil {
			return nil, err
		}
		texts = append(texts, string(raw))
	}
	return texts, nil
}

func digestOf(path string) (string, error) {
	file, err := os.Open(path)
	if err != nil {
		return "", err
	}
	defer file.Close()
	sum := sha256.New()
	if _, err := io.Copy(sum, file); err != nil {
		return "", err
	}
	return hex.EncodeToString(sum.Sum(nil)), nil
}

func attachFile(ctx context.Context, c *client.Client, title, path string) error {
	raw, err := os.ReadFile(path)
	if err == nil {
		_, err = c.Attach(ctx, title, filepath.Base(path), raw)
	}
	return err
}

func buildAttach(s *session) *cobra.Command {
	return &cobra.Command{Use: "attach NAME#NUMBER FILE…",
		Short: "Attach in-toto statements, CycloneDX or SPDX files to a build", Args: arguments(cobra.MinimumNArgs(2)),
		RunE: func(cmd *cobra.Command, args []string) error {
			return s.done(cmd, func(ctx context.Context, c *client.Client) error {
				for _, path := range args[1:] {
					if err := attachFile(ctx, c, args[0], path); err != nil {
						return err
					}
				}
				return nil
			}, "Attached %s to %s.", strings.Join(args[1:], ", "), args[0])
		}}
}

func testsText(b api.Build) string {
	t := b.Tests
	if t == nil {
		return "none reported"
	}
	text := count(t.Tests, "test") + ", "
	if bad := t.Failed + t.Errors; bad > 0 {
		text += fmt.Sprintf("%d FAILED", bad)
		if len(t.Names) > 0 {
			text += ": " + strings.Join(t.Names, ", ")
		}
	} else {
		text += "none failed"
	}
	if t.Skipped > 0 {
		text += fmt.Sprintf(", %d skipped", t.Skipped)
	}
	return text
}

func count(n int, what string) string {
	if n == 1 {
		return "1 " + what
	}
	return fmt.Sprintf("%d %ss", n, what)
}

func buildState(b api.Build) string {
	if b.EndedAt == nil {
		return "runs"
	}
	if b.Tests == nil {
		return "recorded"
	}
	if b.Tests.Failed+b.Tests.Errors > 0 {
		return fmt.Sprintf("%d of %d tests failed", b.Tests.Failed+b.Tests.Errors, b.Tests.Tests)
	}
	return count(b.Tests.Tests, "test") + " passed"
}

func buildList(s *session) *cobra.Command {
	var limit int
	cmd := &cobra.Command{Use: "list [WORDS]", Short: "List builds, the newest first",
		Args: arguments(cobra.MaximumNArgs(1)),
		RunE: func(cmd *cobra.Command, args []string) error {
			query := url.Values{"limit": {strconv.Itoa(limit)}}
			if len(args) > 0 {
				query.Set("q", args[0])
			}
			return answer(s, cmd, func(ctx context.Context, c *client.Client) (api.BuildList, error) {
				return c.Builds(ctx, query)
			}, func(w io.Writer, page api.BuildList) {
				var rows [][]string
				for _, b := range page.Builds {
					rows = append(rows, []string{b.Name + "#" + b.Number, timeText(b.StartedAt), buildState(b), strconv.Itoa(b.Made),
						strconv.Itoa(b.Promoted), shortRevision(b.Revision), b.Branch, b.By})
				}
				table(w, []string{"BUILD", "BEGAN", "STATE", "MADE", "PROMOTED", "REVISION", "BRANCH", "BY"}, []int{3, 4}, rows)
			})
		}}
	cmd.Flags().IntVar(&limit, "limit", 50, "at most so many, up to 500")
	return cmd
}

func shortRevision(text string) string { return text[:min(len(text), 10)] }

func buildShow(s *session) *cobra.Command {
	return &cobra.Command{Use: "show NAME#NUMBER", Short: "Show a build, what it made and used, and where that went",
		Args: arguments(cobra.ExactArgs(1)),
		RunE: func(cmd *cobra.Command, args []string) error {
			return answer(s, cmd, func(ctx context.Context, c *client.Client) (api.BuildPage, error) {
				return c.Build(ctx, args[0])
			}, func(w io.Writer, b api.BuildPage) {
				ended := "it runs"
				if b.EndedAt != nil {
					ended = timeText(*b.EndedAt)
				}
				pairs := []string{"build", b.Name + "#" + b.Number, "began", timeText(b.StartedAt), "recorded", ended, "by", b.By,
					"revision", b.Revision, "branch", b.Branch,
					"link", b.Link, "agent", b.Agent, "tests", testsText(b.Build)}
				for _, name := range sortedKeys(b.Notes) {
					pairs = append(pairs, name, b.Notes[name])
				}
				fields(w, pairs...)
				built(w, "Made", b.MadeIt)
				built(w, "Used", b.Used)
				if len(b.Documents) > 0 {
					fmt.Fprintln(w, "\nDocuments")
					var rows [][]string
					for _, d := range b.Documents {
						signed := "not signed"
						if d.Signed {
							signed = orNone(d.SignedBy, "signed by no known key")
						}
						rows = append(rows, []string{d.Name, d.Kind, d.Type, signed, api.Bytes(d.Size)})
					}
					table(w, []string{"NAME", "KIND", "TYPE", "SIGNED BY", "SIZE"}, []int{4}, rows)
				}
				if len(b.Promotions) > 0 {
					fmt.Fprintln(w, "\nPromotions")
					promotionRows(w, b.Promotions)
				}
			})
		}}
}

// licenceUse is which packages of a build are under a licence.
type licenceUse struct {
	Licence  string   `json:"licence"` // "" is that none is stated
	Packages []string `json:"packages"`
}

func buildLicences(s *session) *cobra.Command {
	return &cobra.Command{Use: "licences NAME#NUMBER", Short: "List the licences of what a build made and used",
		Args:    arguments(cobra.ExactArgs(1)),
		Example: "  crelvo build licences berth-planner#118\n  crelvo build licences berth-planner#118 --output json",
		RunE: func(cmd *cobra.Command, args []string) error {
			return answer(s, cmd, func(ctx context.Context, c *client.Client) ([]licenceUse, error) {
				b, err := c.Build(ctx, args[0])
				return licencesOf(b), err
			}, func(w io.Writer, all []licenceUse) {
				const most = 4
				var rows [][]string
				for _, l := range all {
					names := strings.Join(l.Packages[:min(len(l.Packages), most)], ", ")
					if more := len(l.Packages) - most; more > 0 {
						names += fmt.Sprintf(" and %d more", more)
					}
					rows = append(rows, []string{cmp.Or(l.Licence, "not stated"), strconv.Itoa(len(l.Packages)), names})
				}
				table(w, []string{"LICENCE", "PACKAGES", "WHICH"}, []int{1}, rows)
			})
		}}
}

// licencesOf orders what a build made and used by licences: those of most packages first, and
// last what states none.
func licencesOf(b api.BuildPage) (all []licenceUse) {
	by := map[string][]string{}
	for _, v := range slices.Concat(b.MadeIt, b.Used) {
		name := strings.Join(v.Licences, " OR ")
		if p := purl.Typed(v.PURL); !slices.Contains(by[name], p) {
			by[name] = append(by[name], p)
		}
	}
	for name, packages := range by {
		slices.Sort(packages)
		all = append(all, licenceUse{name, packages})
	}
	slices.SortFunc(all, func(a, b licenceUse) int {
		if (a.Licence == "") != (b.Licence == "") {
			return cmp.Compare(len(b.Licence), len(a.Licence))
		}
		return cmp.Or(cmp.Compare(len(b.Packages), len(a.Packages)), strings.Compare(a.Licence, b.Licence))
	})
	return all
}

func built(w io.Writer, title string, all []api.BuiltVersion) {
	if len(all) == 0 {
		return
	}
	fmt.Fprintln(w, "\n"+title)
	var rows [][]string
	for _, v := range all {
		how := ""
		if v.Promotion != 0 {
			how = fmt.Sprintf("promotion %d", v.Promotion)
		}
		if v.GoneAt != nil {
			how = "removed " + timeText(*v.GoneAt)
		}
		rows = append(rows, []string{v.PURL, v.Repository, timeText(v.At), api.Bytes(v.Bytes), how})
	}
	table(w, []string{"VERSION", "REPOSITORY", "SINCE", "SIZE", ""}, []int{3}, rows)
}

func buildCompare(s *session) *cobra.Command {
	return &cobra.Command{Use: "compare NAME#NUMBER NAME#NUMBER",
		Short: "Tell what changed from an earlier build to a later one", Args: arguments(cobra.ExactArgs(2)),
		Example: "  crelvo build compare 'berth-planner#117' 'berth-planner#118'",
		RunE: func(cmd *cobra.Command, args []string) error {
			return answer(s, cmd, func(ctx context.Context, c *client.Client) (api.BuildComparison, error) {
				return c.CompareBuilds(ctx, args[0], args[1])
			}, func(w io.Writer, d api.BuildComparison) {
				var rows [][]string
				for _, part := range []struct {
					what string
					all  []api.Difference
				}{{"made", d.Made}, {"used", d.Used}} {
					for _, line := range part.all {
						what := "changed"
						switch {
						case line.Before == "":
							what = "added"
						case line.After == "":
							what = "removed"
						case line.OtherBytes:
							what = "other bytes"
						}
						rows = append(rows, []string{part.what, line.PURL, cmp.Or(line.Before, "-"), cmp.Or(line.After, "-"), what})
					}
				}
				if rows == nil {
					fmt.Fprintln(w, "They made and used the same.")
					return
				}
				table(w, []string{"", "PACKAGE", "BEFORE", "AFTER", "WHAT"}, nil, rows)
			})
		}}
}
