package safety

import (
	"archive/zip"
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"crelvo/internal/core/fault"
	"crelvo/internal/core/purl"
	"crelvo/internal/core/safety"
	"crelvo/internal/record"
	"crelvo/internal/upstream"
)

const (
	// largestArchive is how many bytes an archive of a feed may have.
	largestArchive = 8 << 30
	// answersWithin is how long a feed may take for a small document, and archiveWithin for
	// an archive.
	answersWithin = 30 * time.Second
	archiveWithin = 30 * time.Minute
	// mostSingly is how many records are fetched one by one; if there are more that are new,
	// all are.
	mostSingly = 2000
	// singlyAtOnce is after how many of these it is noted how far a run is.
	singlyAtOnce = 100
	// mostLines is how many lines of a list of what changed are read.
	mostLines = 5_000_000
)

// folder reads every record and archive in a folder and those in it.
func (r *reading) folder(ctx context.Context, dir string) error {
	return filepath.WalkDir(dir, func(path string, entry fs.DirEntry, err error) error {
		if err != nil {
			return failed("it cannot be read: %v", err)
		}
		if !entry.Type().IsRegular() {
			return nil
		}
		switch filepath.Ext(path) {
		case ".zip":
			if err := r.archiveAt(ctx, path); err != nil {
				return err
			}
		case ".json":
			name, _ := filepath.Rel(dir, path) // it is below it
			raw, err := readFile(path)
			if err != nil {
				r.feed.Report.Read++
				r.into.fail(name, err)
				break
			}
			if err := r.into.addAll(ctx, name, raw); err != nil {
				return err
			}
		}
		return r.note(ctx)
	})
}

func readFile(path string) ([]byte, error) {
	f, err := os.Open(path)
	if err != nil {
		return nil, errors.Unwrap(err)
	}
	defer f.Close()
	raw, err := io.ReadAll(io.LimitReader(f, 16*safety.LargestRecord+1))
	if err == nil && len(raw) > 16*safety.LargestRecord {
		err = fmt.Errorf("it has more than %d bytes", 16*safety.LargestRecord)
	}
	return raw, err
}

// archiveAt reads the records of an archive that lies in a folder.
func (r *reading) archiveAt(ctx context.Context, path string) error {
	f, err := os.Open(path)
	if err != nil {
		return failed("%s cannot be read: %v", filepath.Base(path), errors.Unwrap(err))
	}
	defer f.Close()
	stat, err := f.Stat()
	if err != nil {
		return err
	}
	return r.archive(ctx, filepath.Base(path), f, stat.Size())
}

// archive reads the records of an archive on the disk.
func (r *reading) archive(ctx context.Context, name string, f io.ReaderAt, size int64) error {
	archive, err := zip.NewReader(f, size)
	if err != nil {
		return failed("%s is no archive that can be read: %v", name, err)
	}
	for some := range slices.Chunk(archive.File, atOnce) {
		if err := r.into.addArchive(ctx, &zip.Reader{File: some}); err != nil {
			return err
		}
		if err := r.note(ctx); err != nil {
			return err
		}
	}
	return nil
}

// address reads what is new where the layout is that in which OSV publishes
// (https://google.github.io/osv.dev/data/#data-dumps): of each ecosystem an archive of all
// records, and a list of when each changed.
func (r *reading) address(ctx context.Context) error {
	there := false
	for _, ecosystem := range purl.OSVEcosystems() {
		found, err := r.ecosystem(ctx, ecosystem)
		if err != nil {
			return in(ecosystem, err)
		}
		there = there || found
	}
	if !there {
		return failed("there is nothing that is known here: no all.zip in the folder of any of %s",
			strings.Join(purl.OSVEcosystems(), ", "))
	}
	return nil
}

// ecosystem reads what is new of one ecosystem; found is false if there is nothing of it.
func (r *reading) ecosystem(ctx context.Context, name string) (found bool, err error) {
	part := r.feed.State[name]
	changed, newest, err := r.changed(ctx, name, part.Until)
	if errors.Is(err, errAbsent) {
		changed, newest, err = nil, time.Time{}, nil
	}
	if err != nil {
		return false, err
	}
	if part.Until.IsZero() || newest.IsZero() || len(changed) > mostSingly {
		return r.everything(ctx, name, newest)
	}
	slices.Reverse(changed) // what changed first comes first, so that a run can go on
	for n := 0; n < len(changed); n += singlyAtOnce {
		end := min(n+singlyAtOnce, len(changed))
		for _, one := range changed[n:end] {
			raw, err := r.get(ctx, name+"/"+one.id+".json")
			if errors.Is(err, errAbsent) {
				r.feed.Report.Read++
				r.into.fail(one.id, err)
				continue
			}
			if err != nil {
				return true, err
			}
			if err := r.into.add(ctx, one.id, raw); err != nil {
				return true, err
			}
		}
		if err := r.into.flush(ctx); err != nil {
			return true, err
		}
		if until, ok := doneUntil(changed, end); ok {
			r.feed.State[name] = record.FeedPart{Until: until}
		}
		if err := r.note(ctx); err != nil {
			return true, err
		}
	}
	return true, nil
}

// doneUntil is until when all that changed was read, if that is the first end of what changed, in
// its order: several may have changed at one moment. ok is false if that is no later than before.
func doneUntil(changed []changedRecord, end int) (until time.Time, ok bool) {
	for i := end - 1; i >= 0; i-- {
		if end == len(changed) || changed[i].at.Before(changed[end].at) {
			return changed[i].at, true
		}
	}
	return until, false
}

// changedRecord is a line of the list of what changed.
type changedRecord struct {
	at time.Time
	id string
}

// changed lists what changed since a moment, what changed last first, and when that was.
func (r *reading) changed(ctx context.Context, name string, since time.Time) (
	all []changedRecord, newest time.Time, err error) {
	ctx, cancel := context.WithTimeout(ctx, archiveWithin)
	defer cancel()
	body, err := r.open(ctx, name+"/modified_id.csv")
	if err != nil {
		return nil, newest, err
	}
	defer body.Close()
	lines := bufio.NewScanner(body)
	for n := 0; lines.Scan() && n < mostLines; n++ {
		when, id, _ := strings.Cut(strings.TrimSpace(lines.Text()), ",")
		at, err := time.Parse(time.RFC3339, when)
		if err != nil || id == "" || strings.ContainsAny(id, "/\\") {
			return nil, newest, failed("line %d of modified_id.csv is none of it: %.100q", n+1, lines.Text())
		}
		if newest.IsZero() {
			newest = at
		}
		if since.IsZero() || !at.After(since) || len(all) > mostSingly {
			break // all will be read, or nothing more is new
		}
		all = append(all, changedRecord{at, id})
	}
	return all, newest, lines.Err()
}

// everything reads the archive of all records.
func (r *reading) everything(ctx context.Context, name string, newest time.Time) (found bool, err error) {
	fetching, cancel := context.WithTimeout(ctx, archiveWithin)
	defer cancel()
	body, err := r.open(fetching, name+"/all.zip")
	if errors.Is(err, errAbsent) {
		return false, nil
	}
	if err != nil {
		return false, err
	}
	spooled, err := os.CreateTemp(r.s.Settings.Folder, "advisories.*.zip")
	if err != nil {
		return false, errors.Join(err, body.Close())
	}
	defer spooled.Close()
	if err := os.Remove(spooled.Name()); err != nil { // so that it is gone with this process
		return false, errors.Join(err, body.Close())
	}
	n, err := io.Copy(spooled, io.LimitReader(&noting{r, fetching, body}, largestArchive+1))
	if err == nil && n > largestArchive {
		err = failed("all.zip has more than %d bytes", int64(largestArchive))
	}
	if err = errors.Join(err, body.Close()); err != nil {
		return false, err
	}
	if err := r.archive(ctx, "all.zip", spooled, n); err != nil {
		return true, err
	}
	if err := r.into.flush(ctx); err != nil {
		return true, err
	}
	r.feed.State[name] = record.FeedPart{Until: newest}
	return true, nil
}

// noting reads, and notes now and then that it does.
type noting struct {
	r   *reading
	ctx context.Context
	io.Reader
}

func (n *noting) Read(p []byte) (int, error) {
	if err := n.r.note(n.ctx); err != nil {
		return 0, err
	}
	return n.Reader.Read(p)
}

var errAbsent = errors.New("it is not there")

// get gives a record.
func (r *reading) get(ctx context.Context, path string) ([]byte, error) {
	ctx, cancel := context.WithTimeout(ctx, answersWithin)
	defer cancel()
	body, err := r.open(ctx, path)
	if err != nil {
		return nil, err
	}
	defer body.Close()
	return io.ReadAll(io.LimitReader(body, safety.LargestRecord+1))
}

// open asks for a document of the feed, or tells that it is not there.
func (r *reading) open(ctx context.Context, path string) (io.ReadCloser, error) {
	if r.client == nil {
		r.client = upstream.Plain(r.feed.Location, r.feed.Private)
	}
	request, err := http.NewRequestWithContext(ctx, http.MethodGet,
		r.feed.Location+"/"+(&url.URL{Path: path}).EscapedPath(), nil)
	if err != nil {
		return nil, err
	}
	request.Header.Set("User-Agent", "crelvo/"+r.s.Settings.Version)
	response, err := r.client.Do(request)
	if err != nil {
		return nil, failed("it cannot be reached: %v", err)
	}
	switch response.StatusCode {
	case http.StatusOK:
		return response.Body, nil
	case http.StatusNotFound, http.StatusForbidden: // as buckets say of what is not there
		return nil, errors.Join(errAbsent, response.Body.Close())
	}
	return nil, errors.Join(failed("%s is answered with %s", path, response.Status), response.Body.Close())
}

// failed is that a feed is not as it should be.
func failed(format string, args ...any) *fault.Error {
	return fault.New(fault.Unavailable, "feed-failed", format, args...)
}

// in says of which ecosystem a failure of a feed is.
func in(ecosystem string, err error) error {
	if f := fault.Of(err); f.Code == "feed-failed" {
		return failed("%s: %s", ecosystem, f.Message)
	}
	return err
}
