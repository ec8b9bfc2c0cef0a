package ecosystem

import (
	"archive/tar"
	"archive/zip"
	"bufio"
	"bytes"
	"compress/gzip"
	"context"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"path"
	"slices"
	"strings"
	"sync"

	"github.com/klauspost/compress/flate"
	"golang.org/x/sync/errgroup"

	"crelvo/internal/core/budget"
	"crelvo/internal/core/catalog"
)

// maxEdited is how large an entry may be in which places are changed, in bytes.
const maxEdited = 8 << 20

// ArchiveEdit is what an ecosystem changes in archives.
type ArchiveEdit struct {
	// Rename gives an entry its new name; nil keeps them.
	Rename func(name string) string
	// Wants tells whether Edit is to look at an entry.
	Wants func(name string) bool
	// Edit gives an entry its new content; nil keeps it. What it can only write
	// when sums is given, it does then.
	Edit func(name string, raw []byte) ([]byte, []Edit, error)
	// Last is an entry that lists the others: it is edited with what became of
	// them, and comes in the place that it had. "" is none.
	Last string
	// Relist gives that entry its content. changed has the new content of every
	// changed entry, by its new name.
	Relist func(raw []byte, changed map[string][]byte) ([]byte, []Edit, error)
	// Prose gives the part of an edited entry that is for people alone, such as a
	// description; nil is none.
	Prose func(name string, edited []byte) []byte
	// Seal tells whether an entry is a signature over the others.
	Seal func(name string) bool
}

var (
	errPrefix = errors.New("something stands before the archive in it, such as a start script")
	documents = []string{".md", ".txt", ".rst", ".html", ".htm", ".adoc"}
)

// forPeople tells whether an entry is a text that no program reads.
func forPeople(name string) bool {
	base := strings.ToLower(path.Base(name))
	for _, usual := range []string{"readme", "changelog", "changes", "history", "news", "license", "licence", "notice",
		"authors"} {
		if strings.HasPrefix(base, usual) {
			return true
		}
	}
	return slices.Contains(documents, path.Ext(base))
}

// RestampZip says how a zip archive is rewritten. Entries that are not changed
// keep their very bytes.
func RestampZip(ctx context.Context, f ToRestamp, name string, edit ArchiveEdit) (Rewriting, error) {
	r := Rewriting{Name: name}
	archive, err := OpenZip(ctx, f)
	if err != nil {
		return r, err
	}
	var begin [4]byte
	if _, err := f.ReadAt(begin[:], 0); err != nil {
		return r, err
	}
	if len(archive.File) > 0 && string(begin[:]) != "PK\x03\x04" {
		return r, errPrefix
	}
	w := zipRewrite{ctx: ctx, own: inflated(ctx, f.Size()), f: f, archive: archive, edit: edit}
	if err := w.plan(&r); err != nil {
		return r, err
	}
	if len(r.Changes) > 0 {
		r.WriteTo = func(out io.Writer, _ func(string) (catalog.Digests, bool)) error { return w.write(out) }
	}
	return r, nil
}

type zipRewrite struct {
	ctx     context.Context // of whoever wants it rewritten
	own     *budget.Budget  // for what comes out of this archive while it is planned
	f       ToRestamp
	archive *zip.Reader
	edit    ArchiveEdit
	changed map[int]bool // entries with another content
}

func (w *zipRewrite) newName(name string) string {
	if w.edit.Rename == nil {
		return name
	}
	return w.edit.Rename(name)
}

// plan finds what is to be changed, and what stands in the way.
func (w *zipRewrite) plan(r *Rewriting) error {
	w.changed = map[int]bool{}
	old := w.f.oldForms()
	stated := make([]string, len(w.archive.File))
	var looking errgroup.Group
	looking.SetLimit(2)
	contents := map[string][]byte{}
	for i, entry := range w.archive.File {
		name := entry.Name
		if to := w.newName(name); to != name {
			r.Changes = append(r.Changes, Edit{Entry: name, What: "name", Old: name, New: to})
		} else if form := nameStates(name, old); form != "" && !w.wants(name) {
			r.Obstacles = append(r.Obstacles, Obstacle{name, "its name states " + form})
		}
		switch {
		case strings.HasSuffix(name, "/"):
		case w.edit.Seal != nil && w.edit.Seal(name):
			r.Obstacles = append(r.Obstacles, Obstacle{name, "the archive is signed, and would not be what was signed"})
		case name == w.edit.Last && name != "":
			w.changed[i] = true
		case w.wants(name):
			raw, err := ReadZipEntry(w.ctx, entry, maxEdited)
			if err == nil {
				err = w.own.Bytes(int64(len(raw)))
			}
			if err != nil {
				return err
			}
			edited, changes, err := w.edit.Edit(name, raw)
			if err != nil {
				return fmt.Errorf("its %.100q: %w", name, err)
			}
			if edited != nil && !bytes.Equal(edited, raw) {
				w.changed[i] = true
				raw = edited
				if w.edit.Last != "" {
					if err := w.own.Hold(int64(len(edited))); err != nil {
						return err
					}
					contents[w.newName(name)] = edited
				}
			}
			r.Changes = append(r.Changes, changes...)
			r.noteEdited(name, raw, w.edit, old)
		default:
			looking.Go(func() (err error) {
				stated[i], err = w.look(entry, old)
				return err
			})
		}
	}
	if err := looking.Wait(); err != nil {
		return err
	}
	for i, form := range stated {
		r.noteStated(w.archive.File[i].Name, form)
	}
	if w.edit.Last == "" || len(r.Changes) == 0 {
		return nil
	}
	_, changes, err := w.relisted(contents)
	r.Changes = append(r.Changes, changes...)
	return err
}

// noteEdited tells what an entry still states after it was edited.
func (r *Rewriting) noteEdited(name string, edited []byte, edit ArchiveEdit, old [][]byte) {
	if edit.Prose != nil {
		prose := edit.Prose(name, edited)
		if states(prose, old) != "" {
			r.Mentions = append(r.Mentions, name)
		}
		edited = bytes.TrimSuffix(edited, prose)
	}
	r.noteStated(name, states(edited, old))
}

// noteStated tells that an entry states an old version, and that this stays.
func (r *Rewriting) noteStated(entry, form string) {
	switch {
	case form == "":
	case forPeople(entry):
		r.Mentions = append(r.Mentions, entry)
	default:
		r.Obstacles = append(r.Obstacles, Obstacle{entry, "it states " + form + ", in a place that cannot be changed"})
	}
}

func (w *zipRewrite) wants(name string) bool { return w.edit.Wants != nil && w.edit.Wants(name) }

// relisted is the new content of the entry that lists the others.
func (w *zipRewrite) relisted(contents map[string][]byte) ([]byte, []Edit, error) {
	entry := slices.IndexFunc(w.archive.File, func(f *zip.File) bool { return f.Name == w.edit.Last })
	if entry < 0 {
		return nil, nil, fmt.Errorf("it has no %s", w.edit.Last)
	}
	raw, err := ReadZipEntry(w.ctx, w.archive.File[entry], maxEdited)
	if err != nil {
		return nil, nil, err
	}
	return w.edit.Relist(raw, contents)
}

// looker is what a search of an entry needs. Archives have thousands of them.
type looker struct {
	unpack io.ReadCloser
	window []byte
}

var lookers = sync.Pool{New: func() any {
	return &looker{unpack: flate.NewReader(bytes.NewReader(nil)), window: make([]byte, windowSize)}
}}

// windowSize is how much is looked at at once, in bytes.
const windowSize = 64 << 10

// look searches an entry for an old version; "" if there is none.
func (w *zipRewrite) look(entry *zip.File, old [][]byte) (string, error) {
	raw, err := entry.OpenRaw()
	if err != nil {
		return "", err
	}
	l := lookers.Get().(*looker)
	defer lookers.Put(l)
	from := io.Reader(raw)
	switch entry.Method {
	case zip.Store:
	case zip.Deflate:
		if err := l.unpack.(flate.Resetter).Reset(raw, nil); err != nil {
			return "", err
		}
		from = l.unpack
	default:
		return "", nil // nobody can look inside
	}
	form, err := statedIn(budget.Of(w.ctx).Reader(w.own.Reader(from)), old, l.window)
	if spent := (*budget.Spent)(nil); errors.As(err, &spent) || w.ctx.Err() != nil {
		return "", err
	}
	if err != nil {
		return "", fmt.Errorf("its %.100q is damaged: %w", entry.Name, err)
	}
	return form, nil
}

// write writes the archive.
func (w *zipRewrite) write(out io.Writer) error {
	buffered := bufio.NewWriterSize(out, 256<<10)
	into := zip.NewWriter(buffered)
	buffer := make([]byte, 64<<10)
	if err := into.SetComment(w.archive.Comment); err != nil {
		return err
	}
	var contents map[string][]byte
	if w.edit.Last != "" {
		// What lists the others may stand before them.
		contents = map[string][]byte{}
		for i, entry := range w.archive.File {
			if !w.changed[i] || entry.Name == w.edit.Last {
				continue
			}
			edited, err := w.edited(entry)
			if err != nil {
				return err
			}
			contents[w.newName(entry.Name)] = edited
		}
	}
	for i, entry := range w.archive.File {
		header := entry.FileHeader
		header.Name = w.newName(entry.Name)
		if !w.changed[i] {
			if err := copyRaw(into, &header, entry, buffer); err != nil {
				return err
			}
			continue
		}
		content, ok := contents[header.Name]
		var err error
		switch {
		case entry.Name == w.edit.Last && w.edit.Last != "":
			content, _, err = w.relisted(contents)
		case !ok:
			content, err = w.edited(entry)
		}
		if err == nil {
			err = writeEntry(into, &header, content)
		}
		if err != nil {
			return err
		}
	}
	return errors.Join(into.Close(), buffered.Flush())
}

func (w *zipRewrite) edited(entry *zip.File) ([]byte, error) {
	raw, err := ReadZipEntry(w.ctx, entry, maxEdited)
	if err != nil {
		return nil, err
	}
	edited, _, err := w.edit.Edit(entry.Name, raw)
	if edited == nil {
		edited = raw
	}
	return edited, err
}

func copyRaw(into *zip.Writer, header *zip.FileHeader, entry *zip.File, buffer []byte) error {
	from, err := entry.OpenRaw()
	if err != nil {
		return err
	}
	to, err := into.CreateRaw(header)
	if err != nil {
		return err
	}
	// The section reader has a method that would take a buffer of its own.
	_, err = io.CopyBuffer(struct{ io.Writer }{to}, struct{ io.Reader }{from}, buffer)
	return err
}

// writeEntry writes an entry with another content under its old header.
func writeEntry(into *zip.Writer, header *zip.FileHeader, content []byte) error {
	packed := content
	if header.Method == zip.Deflate {
		var b bytes.Buffer
		deflate, err := flate.NewWriter(&b, flate.DefaultCompression)
		if err != nil {
			return err
		}
		if _, err := deflate.Write(content); err != nil {
			return err
		}
		if err := deflate.Close(); err != nil {
			return err
		}
		packed = b.Bytes()
	}
	header.CRC32 = crc32.ChecksumIEEE(content)
	header.UncompressedSize64, header.CompressedSize64 = uint64(len(content)), uint64(len(packed))
	header.Flags &^= 0x8 // the sizes are known before the bytes
	to, err := into.CreateRaw(header)
	if err != nil {
		return err
	}
	_, err = to.Write(packed)
	return err
}

// RestampTarGz is RestampZip for a tar archive that is compressed by gzip.
func RestampTarGz(ctx context.Context, f ToRestamp, name string, edit ArchiveEdit) (Rewriting, error) {
	r := Rewriting{Name: name}
	old, window := f.oldForms(), make([]byte, windowSize)
	err := WalkTarGz(ctx, f, func(name string, size int64, from io.Reader) error {
		to := name
		if edit.Rename != nil {
			to = edit.Rename(name)
		}
		if to != name {
			r.Changes = append(r.Changes, Edit{Entry: name, What: "name", Old: name, New: to})
		} else if form := nameStates(name, old); form != "" {
			r.Obstacles = append(r.Obstacles, Obstacle{name, "its name states " + form})
		}
		if edit.Wants == nil || !edit.Wants(name) {
			form, err := statedIn(from, old, window)
			r.noteStated(name, form)
			return err
		}
		raw, err := ReadAtMost(from, maxEdited)
		if err != nil {
			return err
		}
		edited, changes, err := edit.Edit(name, raw)
		if err != nil {
			return fmt.Errorf("its %.100q: %w", name, err)
		}
		if edited == nil {
			edited = raw
		}
		r.Changes = append(r.Changes, changes...)
		r.noteEdited(name, edited, edit, old)
		return nil
	})
	if err != nil {
		return r, err
	}
	if len(r.Changes) > 0 {
		r.WriteTo = func(out io.Writer, _ func(string) (catalog.Digests, bool)) error {
			return writeTarGz(ctx, f, out, edit)
		}
	}
	return r, nil
}

func writeTarGz(ctx context.Context, f ToRestamp, out io.Writer, edit ArchiveEdit) error {
	unzipped, err := gzip.NewReader(io.NewSectionReader(f, 0, f.Size()))
	if err != nil {
		return err
	}
	zipped := gzip.NewWriter(out)
	zipped.Header = unzipped.Header
	own := inflated(ctx, f.Size())
	from, into := tar.NewReader(own.Reader(unzipped)), tar.NewWriter(zipped)
	for {
		header, err := from.Next()
		if err == io.EOF {
			break
		}
		if err != nil {
			return err
		}
		was := header.Name
		if edit.Rename != nil {
			header.Name = edit.Rename(was)
		}
		content := io.Reader(from)
		if header.Typeflag == tar.TypeReg && edit.Wants != nil && edit.Wants(was) {
			raw, err := ReadAtMost(from, maxEdited)
			if err != nil {
				return err
			}
			edited, _, err := edit.Edit(was, raw)
			if err != nil {
				return err
			}
			if edited == nil {
				edited = raw
			}
			content, header.Size = bytes.NewReader(edited), int64(len(edited))
		}
		if err := into.WriteHeader(header); err != nil {
			return err
		}
		if _, err := io.Copy(into, content); err != nil {
			return err
		}
	}
	return errors.Join(into.Close(), zipped.Close())
}

// RestampPlain is for a file in which nothing is changed but its name.
func RestampPlain(ctx context.Context, f ToRestamp, name string) (Rewriting, error) {
	r := Rewriting{Name: name}
	form, err := statedIn(budget.Of(ctx).Reader(io.NewSectionReader(f, 0, f.Size())), f.oldForms(),
		make([]byte, windowSize))
	r.noteStated("", form)
	return r, err
}

func nameStates(name string, old [][]byte) string { return states([]byte(name), old) }

// states finds an old version in a text; "" if there is none.
func states(raw []byte, old [][]byte) string { return statedSoFar(raw, old, true) }

// statedSoFar is states for a text that may go on.
func statedSoFar(raw []byte, old [][]byte, ended bool) string {
	for _, form := range old {
		for rest := raw; ; {
			i := bytes.Index(rest, form)
			if i < 0 {
				break
			}
			if rest = rest[i+len(form):]; len(rest) == 0 && ended || len(rest) > 0 && !isWordByte(rest[0]) {
				return strings.ReplaceAll(string(form), "\x00", "")
			}
		}
	}
	return ""
}

// statedIn is states for what is read piece by piece through a window, which it
// reads to its end.
func statedIn(r io.Reader, old [][]byte, window []byte) (found string, err error) {
	longest := 0
	for _, form := range old {
		longest = max(longest, len(form)+1)
	}
	kept := 0
	for {
		n, err := io.ReadFull(r, window[kept:])
		filled := window[:kept+n]
		ended := err == io.EOF || err == io.ErrUnexpectedEOF
		if err != nil && !ended {
			return "", err
		}
		if found == "" {
			found = statedSoFar(filled, old, ended)
		}
		if ended {
			return found, nil
		}
		kept = copy(window, filled[len(filled)-longest:])
	}
}

// TextEdit changes a text; obstacles in it have no entry. sums knows other files
// of the release once they were written.
type TextEdit func(raw []byte, sums func(name string) (catalog.Digests, bool)) ([]byte, []Edit, []Obstacle, error)

// RestampText is for a file that is one text of so many bytes at most.
func RestampText(f ToRestamp, name string, limit int64, edit TextEdit) (Rewriting, error) {
	r := Rewriting{Name: name}
	raw, err := ReadAtMost(io.NewSectionReader(f, 0, f.Size()), limit)
	if err != nil {
		return r, err
	}
	edited, changes, obstacles, err := edit(raw, func(string) (catalog.Digests, bool) { return catalog.Digests{}, false })
	if err != nil {
		return r, err
	}
	r.Changes, r.Obstacles = changes, obstacles
	r.noteStated("", states(edited, f.oldForms()))
	if len(changes) > 0 {
		r.WriteTo = func(out io.Writer, sums func(string) (catalog.Digests, bool)) error {
			edited, _, _, err := edit(raw, sums)
			if err == nil {
				_, err = out.Write(edited)
			}
			return err
		}
	}
	return r, nil
}
