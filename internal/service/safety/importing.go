package safety

import (
	"archive/zip"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"crelvo/internal/core/access"
	"crelvo/internal/core/budget"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/safety"
	"crelvo/internal/core/text"
	"crelvo/internal/record"
	"crelvo/internal/service/act"
)

const (
	// atOnce is how many advisories are put on record with one transaction.
	atOnce = 500
	// mostFaults is how many of what was wrong a report names.
	mostFaults = 20
	// longestFault is how long what is said of one is: names and contents are foreign.
	longestFault = 300
	// mostTold is of how many advisories of one import it is told each that they have arrived.
	mostTold = 100
	// mostNamed is of how many packages a change is told by their names.
	mostNamed = 200
)

// importing puts records of the OSV format on record, many at once.
type importing struct {
	s      *Safety
	by     string
	caller access.Caller
	feedID int16
	report *record.FeedReport
	told   int
	held   []*safety.Advisory
	byID   map[string]int // where in held
	bytes  int
}

func (s *Safety) importing(caller access.Caller, by string, feedID int16, report *record.FeedReport) *importing {
	return &importing{s: s, by: by, caller: caller, feedID: feedID, report: report, byID: map[string]int{}}
}

// fail notes what is wrong with a record.
func (i *importing) fail(where string, err error) {
	i.report.Failed++
	if len(i.report.Faults) < mostFaults {
		i.report.Faults = append(i.report.Faults, text.Clean(fmt.Sprintf("%s: %v", where, err), false, longestFault))
	}
}

// add takes one record. Only what the database says is an error.
func (i *importing) add(ctx context.Context, where string, raw []byte) error {
	i.report.Read++
	a, err := safety.ParseOSV(raw)
	switch {
	case errors.Is(err, safety.ErrForeign):
		i.report.Foreign++
		return nil
	case err != nil:
		i.fail(where, err)
		return nil
	}
	if at, twice := i.byID[a.ID]; twice {
		if a.Modified.After(i.held[at].Modified) {
			i.held[at] = a
		}
		return nil
	}
	i.byID[a.ID] = len(i.held)
	i.held = append(i.held, a)
	if i.bytes += len(raw); len(i.held) < atOnce && i.bytes < 2*safety.LargestRecord {
		return nil
	}
	return i.flush(ctx)
}

// flush puts on record what is held.
func (i *importing) flush(ctx context.Context) error {
	if len(i.held) == 0 {
		return ctx.Err()
	}
	var done record.Imported
	var about []string
	err := i.s.DB.Within(ctx, func(tx *record.Tx) (err error) {
		if done, err = tx.SetAdvisories(ctx, i.held, i.feedID, i.by, i.s.Now()); err != nil {
			return err
		}
		if len(done.Packages) == 0 {
			return nil
		}
		if err := tx.Tell(ctx, changesOf(done.Packages)...); err != nil {
			return err
		}
		about, err = tx.AboutKept(ctx, idsOf(append(done.Added, done.Changed...)))
		return err
	})
	if err != nil {
		return err
	}
	i.report.Added += len(done.Added)
	i.report.Changed += len(done.Changed)
	i.held, i.byID, i.bytes = nil, map[string]int{}, 0
	return i.tell(ctx, done.Added, about)
}

func idsOf(all []*safety.Advisory) (ids []string) {
	for _, a := range all {
		ids = append(ids, a.ID)
	}
	return ids
}

// changesOf tells which packages are to be looked at anew.
func changesOf(packages []catalog.PackageKey) (changes []record.Change) {
	if len(packages) > mostNamed {
		return []record.Change{{Kind: record.OfAdvisory}}
	}
	for _, p := range packages {
		changes = append(changes, record.Change{Kind: record.OfAdvisory, Ecosystem: p.Ecosystem, Namespace: p.Namespace,
			Name: p.Name})
	}
	return changes
}

// tell puts into the activity record which new advisories are about versions that are kept.
// about are those that are about packages that are.
func (i *importing) tell(ctx context.Context, added []*safety.Advisory, about []string) error {
	everywhere := i.s.directory.ScopeOf(i.s.directory.Repositories()...)
	for _, a := range added {
		if i.told >= mostTold || !a.Withdrawn.IsZero() || !slices.Contains(about, a.ID) {
			continue
		}
		affected, err := i.s.affected(ctx, everywhere, a.ID)
		if err != nil {
			return err
		}
		if len(affected) == 0 {
			continue
		}
		i.told++
		event := i.s.Event(i.caller, record.EventAdvisoryArrived)
		event.Subject = a.ID
		event.Detail = map[string]string{"severity": a.Worst().String(), "summary": a.Summary,
			"about": act.Plural(int64(len(affected)), "version") + " that are kept, such as " + affected[0].title()}
		if err := i.s.DB.Within(ctx, func(tx *record.Tx) error { return tx.Append(ctx, event) }); err != nil {
			return err
		}
	}
	return nil
}

// addAll takes what a file has: a record, a list of records, or an archive of them.
func (i *importing) addAll(ctx context.Context, where string, raw []byte) error {
	if bytes.HasPrefix(raw, []byte("PK\x03\x04")) {
		archive, err := zip.NewReader(bytes.NewReader(raw), int64(len(raw)))
		if err != nil {
			i.fail(where, err)
			return nil
		}
		return i.addArchive(ctx, archive)
	}
	if trimmed := bytes.TrimLeft(raw, " \t\r\n"); !bytes.HasPrefix(trimmed, []byte("[")) {
		return i.add(ctx, where, raw)
	}
	decoder := json.NewDecoder(bytes.NewReader(raw))
	_, err := decoder.Token()
	for n := 0; err == nil && decoder.More(); n++ {
		if err := budget.Of(ctx).Elements(1); err != nil {
			return tooMuch(err)
		}
		var one json.RawMessage
		if err = decoder.Decode(&one); err != nil {
			break
		}
		if err := i.add(ctx, fmt.Sprintf("%s, record %d", where, n+1), one); err != nil {
			return err
		}
	}
	if err != nil {
		i.fail(where, err)
	}
	return nil
}

// addArchive takes the records of an archive, each of which is a file .json.
func (i *importing) addArchive(ctx context.Context, archive *zip.Reader) error {
	for _, f := range archive.File {
		if f.FileInfo().IsDir() || !strings.HasSuffix(f.Name, ".json") {
			continue
		}
		raw, err := readEntry(ctx, f)
		var spent *budget.Spent
		if errors.As(err, &spent) || ctx.Err() != nil {
			return errors.Join(ctx.Err(), tooMuch(err))
		}
		if err != nil {
			i.report.Read++
			i.fail(f.Name, err)
			continue
		}
		if err := i.add(ctx, f.Name, raw); err != nil {
			return err
		}
	}
	return nil
}

func readEntry(ctx context.Context, f *zip.File) ([]byte, error) {
	b := budget.Of(ctx)
	if err := b.Elements(1); err != nil {
		return nil, err
	}
	r, err := f.Open()
	if err != nil {
		return nil, err
	}
	raw, err := io.ReadAll(b.Reader(io.LimitReader(r, safety.LargestRecord+1)))
	return raw, errors.Join(err, r.Close())
}

// tooMuch is that a file unpacks to more than may be read of one.
func tooMuch(err error) error {
	var spent *budget.Spent
	if !errors.As(err, &spent) {
		return err
	}
	return fault.New(fault.Invalid, "too-large", "not all of it was read: %v", spent).
		WithHint("Put it on the server, and add it as a feed.")
}

// What may be read of one file that somebody sends, and of one run of a feed.
var (
	sentLimits = budget.Limits{Bytes: 256 << 20, Held: budget.Default.Held, Elements: 50_000}
	feedLimits = budget.Limits{Bytes: 64 << 30, Held: budget.Default.Held, Elements: 10_000_000}
)

// Import puts advisories on record that somebody has in a file: a record of the OSV format, a
// list of them, or a zip archive.
func (s *Safety) Import(
	ctx context.Context, caller access.Caller, name string, raw []byte,
) (report record.FeedReport, err error) {
	if err := s.directory.Allow(caller, access.Manage, act.Everything); err != nil {
		return report, err
	}
	ctx = budget.With(ctx, sentLimits)
	i := s.importing(caller, caller.Name, 0, &report)
	if err := i.addAll(ctx, name, raw); err != nil {
		return report, err
	}
	if err := i.flush(ctx); err != nil {
		return report, err
	}
	if report.Read == report.Failed {
		why := "there is no record in it"
		if len(report.Faults) > 0 {
			why = report.Faults[0]
		}
		return report, fault.New(fault.Invalid, "no-advisory", "nothing was imported: %s", why).
			WithHint("Send a record of the OSV format (https://ossf.github.io/osv-schema/), a list of them, or a zip archive.")
	}
	if report.Added+report.Changed > 0 {
		event := s.Event(caller, record.EventAdvisoriesImported)
		event.Subject = name
		event.Detail = counted(report)
		err = s.DB.Within(ctx, func(tx *record.Tx) error { return tx.Append(ctx, event) })
	}
	return report, err
}

func counted(r record.FeedReport) map[string]string {
	return map[string]string{"added": fmt.Sprint(r.Added), "changed": fmt.Sprint(r.Changed),
		"failed": fmt.Sprint(r.Failed)}
}
