package fileset

import (
	"bufio"
	"bytes"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
	"time"

	"crelvo/internal/core/text"
)

// MediaType is that of a manifest: a line of JSON for the set, and one for each entry.
const MediaType = "application/vnd.crelvo.file-set+jsonl"

// SignatureHeader is the header of a request that has, with a manifest, the detached OpenPGP signature over it:
// armored (RFC 9580, section 6.2), and then in Base64.
const SignatureHeader = "Crelvo-Signature"

// formatNumber is the form of manifests that this package writes and reads.
const formatNumber = 1

// maxLine is how many bytes a line of a manifest may have: some 850,000 chunks of one file.
const maxLine = 64 << 20

// Writer writes a manifest in the one form that it has: the same set is the same bytes.
type Writer struct {
	w    *bufio.Writer
	line []byte
	last string
}

// NewWriter begins a manifest. Flush ends it.
func NewWriter(w io.Writer, h Header) (*Writer, error) {
	m := &Writer{w: bufio.NewWriterSize(w, 64<<10)}
	line, err := appendHeader(nil, h)
	if err == nil {
		_, err = m.w.Write(line)
	}
	return m, err
}

// Add writes the next entry; they come in the order of the bytes of their paths.
func (m *Writer) Add(e Entry) error {
	if m.last != "" && e.Path <= m.last {
		return fmt.Errorf("%q comes after %q", e.Path, m.last)
	}
	m.last = e.Path
	m.line = AppendEntry(m.line[:0], e)
	_, err := m.w.Write(m.line)
	return err
}

// Flush writes what is held back.
func (m *Writer) Flush() error { return m.w.Flush() }

func appendHeader(b []byte, h Header) ([]byte, error) {
	b = append(b, `{"fileSet":`...)
	b = strconv.AppendInt(b, formatNumber, 10)
	b = append(b, `,"files":`...)
	b = strconv.AppendInt(b, int64(h.Files), 10)
	b = append(b, `,"bytes":`...)
	b = strconv.AppendInt(b, h.Bytes, 10)
	if c := h.Chunking; c != (Chunking{}) {
		b = append(b, `,"chunking":{"algorithm":`...)
		b = appendText(b, c.Algorithm)
		b = fmt.Appendf(b, `,"min":%d,"normal":%d,"max":%d}`, c.Min, c.Normal, c.Max)
	}
	if h.Description != "" {
		// Lines and tabs are escaped as JSON does; the rest as in paths.
		var said bytes.Buffer
		encoder := json.NewEncoder(&said)
		encoder.SetEscapeHTML(false)
		if err := encoder.Encode(h.Description); err != nil {
			return nil, err
		}
		b = append(append(b, `,"description":`...), bytes.TrimSuffix(said.Bytes(), []byte("\n"))...)
	}
	return append(b, "}\n"...), nil
}

// appendText writes a text of one line, which has no characters that JSON must escape but two.
func appendText(b []byte, s string) []byte {
	b = append(b, '"')
	for i := range len(s) {
		if s[i] == '"' || s[i] == '\\' {
			b = append(b, '\\')
		}
		b = append(b, s[i])
	}
	return append(b, '"')
}

// AppendEntry adds the line of an entry.
func AppendEntry(b []byte, e Entry) []byte {
	b = appendText(append(b, `{"path":`...), e.Path)
	if e.Kind == File {
		b = strconv.AppendInt(append(b, `,"size":`...), e.Size, 10)
	}
	if e.Kind == Link {
		b = appendText(append(b, `,"link":`...), e.Target)
	} else {
		b = strconv.AppendUint(append(b, `,"mode":"`...), uint64(e.Mode), 8)
		b = append(b, '"')
	}
	b = e.Modified.UTC().AppendFormat(append(b, `,"modified":"`...), time.RFC3339Nano)
	b = append(b, '"')
	if e.Kind == File {
		b = hex.AppendEncode(append(b, `,"sha256":"`...), e.Digest[:])
		b = append(b, '"')
		for i, c := range e.Chunks {
			if i == 0 {
				b = append(b, `,"chunks":["`...)
			} else {
				b = append(b, `","`...)
			}
			b = append(hex.AppendEncode(b, c.Digest[:]), ':')
			b = strconv.AppendUint(b, uint64(c.Length), 10)
		}
		if len(e.Chunks) > 0 {
			b = append(b, `"]`...)
		}
	}
	return append(b, "}\n"...)
}

// Read goes through a manifest. What is wrong with it is told in words, with the line.
func Read(r io.Reader, begin func(Header) error, each func(Entry) error) error {
	lines := bufio.NewReaderSize(r, 64<<10)
	var long []byte
	h, sum, last := Header{}, Header{}, ""
	for n := 1; ; n++ {
		line, err := nextLine(lines, &long)
		if err == io.EOF && n > 1 {
			break
		}
		if err == io.EOF {
			err = errors.New("it is empty")
		}
		if err == nil && n == 1 {
			if h, err = readHeader(line); err == nil {
				err = begin(h)
			}
			if err != nil {
				return err
			}
			continue
		}
		var e Entry
		if err == nil {
			e, err = readEntry(line)
		}
		switch {
		case err != nil:
		case e.Path <= last && n > 2:
			err = fmt.Errorf("%.100q comes after %.100q; paths are in the order of their bytes", e.Path, last)
		case n-1 > MaxEntries:
			err = fmt.Errorf("it has more than %d entries", MaxEntries)
		}
		if err != nil {
			return fmt.Errorf("line %d: %w", n, err)
		}
		last = e.Path
		if e.Kind == File {
			sum.Files++
			sum.Bytes += e.Size
		}
		if err := each(e); err != nil {
			return err
		}
	}
	if sum.Files != h.Files || sum.Bytes != h.Bytes {
		return fmt.Errorf("it says that it has %d files of %d bytes, and has %d of %d", h.Files, h.Bytes, sum.Files,
			sum.Bytes)
	}
	return nil
}

// ReadHeader reads what a manifest says of the set as a whole, and no more of it.
func ReadHeader(r io.Reader) (h Header, err error) {
	var long []byte
	line, err := nextLine(bufio.NewReader(r), &long)
	if err == io.EOF {
		err = errors.New("it is empty")
	}
	if err != nil {
		return h, err
	}
	return readHeader(line)
}

// nextLine is a line with its end; long is what it is kept in if it is long.
func nextLine(lines *bufio.Reader, long *[]byte) ([]byte, error) {
	line, err := lines.ReadSlice('\n')
	if err == bufio.ErrBufferFull {
		*long = append((*long)[:0], line...)
		for err == bufio.ErrBufferFull && len(*long) <= maxLine {
			line, err = lines.ReadSlice('\n')
			*long = append(*long, line...)
		}
		line = *long
	}
	switch {
	case len(line) > maxLine:
		return nil, fmt.Errorf("it has more than %d bytes", maxLine)
	case err == io.EOF && len(line) > 0:
		return nil, errors.New("it has no end; the manifest was cut")
	}
	return line, err
}

func strictly(line []byte, into any) error {
	d := json.NewDecoder(bytes.NewReader(line))
	d.DisallowUnknownFields()
	return d.Decode(into)
}

// errForm is that a line says something possible, in another form than the one that it has.
var errForm = errors.New("it is not written in the one form that manifests have: keys in their order, no blanks, " +
	"times in UTC, no needless zeros and escapes")

func readHeader(line []byte) (h Header, err error) {
	var said struct {
		Format   int `json:"fileSet"`
		Files    int
		Bytes    int64
		Chunking *struct {
			Algorithm        string
			Min, Normal, Max int
		}
		Description string
	}
	if err := strictly(line, &said); err != nil {
		return h, fmt.Errorf("its first line cannot be read: %w", err)
	}
	h = Header{Files: said.Files, Bytes: said.Bytes, Description: said.Description}
	if said.Chunking != nil {
		h.Chunking = Chunking(*said.Chunking)
	}
	if err := text.Check("the description", h.Description, true, MaxDescription); err != nil {
		return h, err
	}
	form, err := appendHeader(nil, h)
	switch {
	case said.Format != formatNumber:
		return h, fmt.Errorf("it is of form %d of file sets; form %d is known", said.Format, formatNumber)
	case h.Files < 0 || h.Bytes < 0 || h.Files > MaxEntries:
		return h, fmt.Errorf("a set of %d files and %d bytes is not possible", h.Files, h.Bytes)
	case !text.Fit(h.Chunking.Algorithm, false):
		return h, errors.New("the name of its chunking has characters that cannot be kept or shown")
	case err == nil && !bytes.Equal(form, line):
		err = fmt.Errorf("its first line: %w", errForm)
	}
	return h, err
}

// line is an entry as JSON has it.
type line struct {
	Path, Link, Mode, SHA256 string
	Size                     *int64
	Modified                 time.Time
	Chunks                   []chunkText
}

// chunkText is a chunk as a manifest has it: its digest and, after a colon, its length.
type chunkText Chunk

// UnmarshalText implements encoding.TextUnmarshaler.
func (c *chunkText) UnmarshalText(said []byte) error {
	if len(said) < 66 || said[64] != ':' {
		return fmt.Errorf("the chunk %.80q is no SHA-256 with a length", said)
	}
	length, err := strconv.ParseUint(string(said[65:]), 10, 32)
	if err != nil || length == 0 || length > MaxChunk {
		return fmt.Errorf("a chunk has from 1 to %d bytes, and not %.20s", MaxChunk, said[65:])
	}
	c.Length = uint32(length)
	_, err = hex.Decode(c.Digest[:], said[:64])
	return err
}

func readEntry(raw []byte) (e Entry, err error) {
	var said line
	if err := strictly(raw, &said); err != nil {
		return e, fmt.Errorf("it cannot be read: %w", err)
	}
	e = Entry{Path: said.Path, Modified: said.Modified, Target: said.Link}
	switch {
	case said.Link != "":
		e.Kind = Link
		err = CheckTarget(e.Path, e.Target)
	case strings.HasSuffix(e.Path, "/"):
		e.Kind = Folder
	case said.Size == nil || *said.Size < 0 || len(said.SHA256) != 64:
		return e, fmt.Errorf("%.100q has no size or no SHA-256", e.Path)
	}
	if err == nil {
		err = CheckPath(e.Path, e.Kind == Folder)
	}
	if err == nil && e.Kind != Link {
		var mode uint64
		mode, err = strconv.ParseUint(said.Mode, 8, 16)
		if e.Mode = uint16(mode); err != nil || mode > 0o777 {
			return e, fmt.Errorf("the mode %.20q of %.100q is not an octal number up to 777", said.Mode, e.Path)
		}
	}
	if err == nil && e.Kind == File {
		err = e.readFile(said)
	}
	if err == nil && (e.Modified.Year() < 1678 || e.Modified.Year() > 2261) {
		err = fmt.Errorf("the time of %.100q is not possible", e.Path)
	}
	if err == nil && !bytes.Equal(AppendEntry(nil, e), raw) {
		err = errForm
	}
	return e, err
}

// readFile reads what is said of the content of a file.
func (e *Entry) readFile(said line) error {
	e.Size = *said.Size
	if _, err := hex.Decode(e.Digest[:], []byte(said.SHA256)); err != nil {
		return fmt.Errorf("%.80q of %.100q is no SHA-256", said.SHA256, e.Path)
	}
	var sum int64
	for _, c := range said.Chunks {
		e.Chunks = append(e.Chunks, Chunk(c))
		sum += int64(c.Length)
	}
	switch {
	case len(e.Chunks) == 1:
		return fmt.Errorf("%.100q has one chunk, which is not named", e.Path)
	case len(e.Chunks) > 0 && sum != e.Size:
		return fmt.Errorf("%.100q has %d bytes, and its chunks have %d", e.Path, e.Size, sum)
	case len(e.Chunks) == 0 && e.Size > MaxChunk:
		return fmt.Errorf("%.100q has more than %d bytes, and does not say of which chunks", e.Path, MaxChunk)
	}
	return nil
}

// ReadEntries goes through lines of entries in any order, without a first line for the set.
func ReadEntries(r io.Reader, each func(Entry) error) error {
	lines := bufio.NewReaderSize(r, 64<<10)
	var long []byte
	for n := 1; ; n++ {
		line, err := nextLine(lines, &long)
		if err == io.EOF {
			return nil
		}
		var e Entry
		if err == nil {
			e, err = readEntry(line)
		}
		if err != nil {
			return fmt.Errorf("line %d: %w", n, err)
		}
		if err := each(e); err != nil {
			return err
		}
	}
}

// Manifest makes a manifest of entries in any order, cut by the usual chunking. An error is in words.
func Manifest(entries []Entry, description string) ([]byte, error) {
	slices.SortFunc(entries, func(a, b Entry) int { return strings.Compare(a.Path, b.Path) })
	h, size := Header{Chunking: Usual, Description: description}, 256+len(description)
	for _, e := range entries {
		size += 160 + len(e.Path) + len(e.Target) + 75*len(e.Chunks)
		if e.Kind == File {
			h.Files++
			h.Bytes += e.Size
		}
	}
	b := bytes.NewBuffer(make([]byte, 0, size))
	m, err := NewWriter(b, h)
	for i := range entries {
		if err == nil {
			err = m.Add(entries[i])
		}
	}
	if err == nil {
		err = m.Flush()
	}
	return b.Bytes(), err
}
