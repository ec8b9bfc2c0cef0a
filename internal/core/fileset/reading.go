package fileset

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"sort"
	"strings"
)

// Layout reads a layout where it lies: of a large one, only what is asked for.
type Layout struct {
	r                                io.ReaderAt
	packs                            []Pack
	entries, pieceCount, folderCount int
	records, pieces, folders, texts  int64 // where they begin
	size                             int64
}

// OpenLayout opens a layout.
func OpenLayout(r io.ReaderAt, size int64) (*Layout, error) {
	head := make([]byte, headSize)
	if _, err := r.ReadAt(head, 0); errors.Is(err, io.EOF) || err == nil &&
		string(head[:len(layoutBegin)]) != layoutBegin {
		return nil, errLayout
	} else if err != nil {
		return nil, err
	}
	var n [4]int64
	for i := range n {
		n[i] = int64(binary.LittleEndian.Uint64(head[len(layoutBegin)+8*i:]))
		if n[i] < 0 || n[i] > MaxPieces {
			return nil, errLayout
		}
	}
	l := &Layout{r: r, packs: make([]Pack, n[0]), entries: int(n[1]), pieceCount: int(n[2]), folderCount: int(n[3]),
		size: size}
	l.records = int64(headSize) + n[0]*packSize
	l.pieces = l.records + n[1]*int64(recordSize)
	l.folders = l.pieces + n[2]*pieceSize
	l.texts = l.folders + n[3]*folderSize
	if l.texts > size {
		return nil, errLayout
	}
	raw := make([]byte, n[0]*packSize)
	if _, err := r.ReadAt(raw, int64(headSize)); err != nil && n[0] > 0 {
		return nil, err
	}
	for i := range l.packs {
		copy(l.packs[i].Digest[:], raw[i*packSize:])
		l.packs[i].Size = int64(binary.LittleEndian.Uint64(raw[i*packSize+32:]))
	}
	return l, nil
}

// Packs are those that the layout uses.
func (l *Layout) Packs() []Pack { return l.packs }

// Shared are those of its packs that have more in them than the set uses.
func (l *Layout) Shared() (shared []Pack, err error) {
	raw, err := l.read(l.pieces, l.pieceCount*pieceSize)
	if err != nil {
		return nil, err
	}
	used, err := usedOf(places(raw), len(l.packs))
	if err != nil {
		return nil, err
	}
	for i, n := range used {
		if !l.packs[i].whole(n) {
			shared = append(shared, l.packs[i])
		}
	}
	return shared, nil
}

// Len is how many entries there are.
func (l *Layout) Len() int { return l.entries }

func (l *Layout) read(at int64, n int) ([]byte, error) {
	if at < 0 || at+int64(n) > l.size {
		return nil, errLayout
	}
	b := make([]byte, n)
	if _, err := l.r.ReadAt(b, at); err != nil && !errors.Is(err, io.EOF) {
		return nil, err
	}
	return b, nil
}

func (l *Layout) text(at uint64, n uint16) (string, error) {
	if at > uint64(l.size) {
		return "", errLayout
	}
	b, err := l.read(l.texts+int64(at), int(n))
	return string(b), err
}

// entry reads the i-th, with its path.
func (l *Layout) entry(i int) (record, error) {
	raw, err := l.read(l.records+int64(i)*int64(recordSize), recordSize)
	if err != nil {
		return record{}, err
	}
	e := parseRecord(raw)
	if e.pieces > 0 && e.first+uint64(e.pieces) > uint64(l.pieceCount) {
		return e, errLayout
	}
	texts, err := l.text(e.at, e.length+e.target)
	if err == nil {
		e.Path, e.Target = texts[:e.length], texts[e.length:]
	}
	return e, err
}

// search is the first entry from which on all have paths that are not before a name.
func (l *Layout) search(name string) (i int, err error) {
	i = sort.Search(l.entries, func(i int) bool {
		e, wrong := l.entry(i)
		if wrong != nil {
			err = wrong
			return true
		}
		return e.Path >= name
	})
	return i, err
}

// Found is an entry that was found.
type Found struct {
	Entry
	first  uint64
	pieces uint32
}

func (r record) found() Found { return Found{r.Entry, r.first, r.pieces} }

// ErrNotThere is that a set has nothing at a path.
var ErrNotThere = errors.New("the set has nothing at that path")

// Find finds an entry by its path; ErrNotThere if there is none. It has no chunks: Pieces gives where they are.
func (l *Layout) Find(name string) (Found, error) {
	i, err := l.search(name)
	if err != nil {
		return Found{}, err
	}
	if i == l.entries {
		return Found{}, ErrNotThere
	}
	e, err := l.entry(i)
	if err == nil && e.Path != name {
		err = ErrNotThere
	}
	return e.found(), err
}

// Pieces gives the pieces of a file that have bytes between two offsets in it.
func (l *Layout) Pieces(f Found, from, to int64) ([]Piece, error) {
	if f.pieces == 0 || from >= to {
		return nil, nil
	}
	at := func(i int) (p Piece, err error) {
		raw, err := l.read(l.pieces+int64(f.first+uint64(i))*pieceSize, pieceSize)
		if err == nil {
			p, err = l.piece(raw)
		}
		return p, err
	}
	var wrong error
	begin := sort.Search(int(f.pieces), func(i int) bool {
		p, err := at(i)
		if err != nil {
			wrong = err
			return true
		}
		return p.At+int64(p.Length) > from
	})
	if wrong != nil {
		return nil, wrong
	}
	var all []Piece
	const atOnce = 512
	for i := begin; i < int(f.pieces); i += atOnce {
		n := min(atOnce, int(f.pieces)-i)
		raw, err := l.read(l.pieces+int64(f.first+uint64(i))*pieceSize, n*pieceSize)
		if err != nil {
			return nil, err
		}
		for ; n > 0; n-- {
			p, err := l.piece(raw)
			if err != nil {
				return nil, err
			}
			if p.At >= to {
				return all, nil
			}
			all, raw = append(all, p), raw[pieceSize:]
		}
	}
	return all, nil
}

func (l *Layout) piece(raw []byte) (Piece, error) {
	p := parsePiece(raw)
	if int(p.Pack) >= len(l.packs) || p.Offset < 0 || p.Offset+int64(p.Length) > l.packs[p.Pack].Size {
		return p, errLayout
	}
	return p, nil
}

func parsePiece(raw []byte) Piece {
	u := binary.LittleEndian
	return Piece{At: int64(u.Uint64(raw)), Offset: int64(u.Uint64(raw[8:])), Length: u.Uint32(raw[16:]),
		Pack: u.Uint32(raw[20:])}
}

// PieceCount is how many pieces the files have together.
func (l *Layout) PieceCount() int { return l.pieceCount }

// PiecesAt gives pieces by their numbers, which run through all files in the order of the manifest: n from one on.
func (l *Layout) PiecesAt(from, n int) ([]Piece, error) {
	if from < 0 || n < 0 || from+n > l.pieceCount {
		return nil, fmt.Errorf("the set has %d chunks", l.pieceCount)
	}
	raw, err := l.read(l.pieces+int64(from)*pieceSize, n*pieceSize)
	if err != nil {
		return nil, err
	}
	all := make([]Piece, n)
	for i := range all {
		if all[i], err = l.piece(raw[i*pieceSize:]); err != nil {
			return nil, err
		}
	}
	return all, nil
}

// Line is what stands in a folder: an entry, or a folder with how much is below it.
type Line struct {
	Found
	Name  string // without a slash
	Files int    // below a folder
}

// List gives what stands directly in a folder, "" being the set itself, from after a name on, at most limit lines;
// more tells that there are others. ErrNotThere if there is no such folder. Folders come as one line, where the first
// of what is below them stands.
func (l *Layout) List(folder, after string, limit int) (lines []Line, more bool, err error) {
	i, err := l.search(folder + after)
	if err != nil {
		return nil, false, err
	}
	if after != "" {
		if i, err = l.skip(i, folder, after); err != nil {
			return nil, false, err
		}
	}
	there := folder == ""
	for i < l.entries {
		e, err := l.entry(i)
		if err != nil {
			return nil, false, err
		}
		rest, below := strings.CutPrefix(e.Path, folder)
		if !below {
			break
		}
		there = true
		if rest == "" { // the folder itself
			i++
			continue
		}
		if len(lines) == limit {
			return lines, true, nil
		}
		name, _, isFolder := strings.Cut(rest, "/")
		line := Line{Found: e.found(), Name: name}
		i++
		if isFolder {
			if line.Size, line.Files, err = l.below(folder + name + "/"); err != nil {
				return nil, false, err
			}
			if rest != name+"/" {
				line.Entry = Entry{Size: line.Size, Mode: 0o755, Modified: e.Modified}
			}
			line.Path, line.Kind = folder+name+"/", Folder
			// What is below it stands together: the next is behind all of that.
			if i, err = l.search(folder + name + "0"); err != nil { // '0' comes after '/'
				return nil, false, err
			}
		}
		lines = append(lines, line)
	}
	if !there && after == "" {
		err = ErrNotThere
	}
	return lines, false, err
}

// skip goes behind the line of a name that was listed last.
func (l *Layout) skip(i int, folder, after string) (int, error) {
	if i < l.entries {
		e, err := l.entry(i)
		if err != nil {
			return i, err
		}
		if e.Path == folder+after {
			return i + 1, nil
		}
	}
	j, err := l.search(folder + after + "/")
	if err != nil || j == l.entries {
		return i, err
	}
	if e, err := l.entry(j); err != nil || !strings.HasPrefix(e.Path, folder+after+"/") {
		return i, err
	}
	return l.search(folder + after + "0")
}

// below tells what is below a folder, however deep.
func (l *Layout) below(folder string) (bytes int64, files int, err error) {
	read := func(i int) (name string, raw []byte, err error) {
		if raw, err = l.read(l.folders+int64(i)*folderSize, folderSize); err == nil {
			name, err = l.text(binary.LittleEndian.Uint64(raw), binary.LittleEndian.Uint16(raw[8:]))
		}
		return name, raw, err
	}
	i := sort.Search(l.folderCount, func(i int) bool {
		name, _, wrong := read(i)
		if wrong != nil {
			err = wrong
			return true
		}
		return name >= folder
	})
	if err != nil || i == l.folderCount {
		return 0, 0, err
	}
	name, raw, err := read(i)
	if err != nil || name != folder {
		return 0, 0, err
	}
	return int64(binary.LittleEndian.Uint64(raw[24:])), int(binary.LittleEndian.Uint64(raw[16:])), nil
}

// Below goes through all entries below a folder, "" being the set itself.
func (l *Layout) Below(folder string, each func(Found) error) error {
	i, err := l.search(folder)
	for ; err == nil && i < l.entries; i++ {
		var e record
		if e, err = l.entry(i); err != nil || !strings.HasPrefix(e.Path, folder) {
			break
		}
		err = each(e.found())
	}
	return err
}
