package fileset

import (
	"cmp"
	"encoding/binary"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"
)

// A layout has, in little endian: a head; the packs; the entries in the order of their paths; the pieces of the
// files, in the order of the entries; the folders in the order of their paths; and the texts.
const (
	layoutBegin = "crelvo layout 1\n"

	headSize   = len(layoutBegin) + 4*8
	packSize   = 32 + 8
	recordSize = 8 + 2 + 2 + 2 + 1 + 1 + 8 + 8 + 32 + 8 + 4 + 4
	pieceSize  = 8 + 8 + 4 + 4
	folderSize = 8 + 2 + 6 + 8 + 8
)

// Pack is a pack that a layout uses.
type Pack struct {
	Digest Digest
	Size   int64 // bytes
}

// Piece is where a chunk of a file is.
type Piece struct {
	At     int64 // in the file
	Offset int64 // in the pack
	Length uint32
	Pack   uint32 // the index of the pack in the layout
}

// Builder makes a layout of entries that come in the order of their paths.
type Builder struct {
	packs   []Pack
	byPack  map[Digest]uint32
	records []byte
	pieces  []byte
	texts   []byte
	entries int
	folders map[string]*below
	order   []string // of folders, as they came
}

// below is what is below a folder, however deep.
type below struct {
	files int
	bytes int64
}

// NewBuilder begins a layout.
func NewBuilder() *Builder {
	return &Builder{byPack: map[Digest]uint32{}, folders: map[string]*below{"": {}}, order: []string{""}}
}

// Where is where a chunk is to be had.
type Where struct {
	Pack   Pack
	Offset int64
}

// pack gives the index of a pack, which is added if it is new.
func (b *Builder) pack(p Pack) uint32 {
	i, ok := b.byPack[p.Digest]
	if !ok {
		i = uint32(len(b.packs))
		b.packs, b.byPack[p.Digest] = append(b.packs, p), i
	}
	return i
}

// Add adds an entry; where tells of each of its chunks where it is.
func (b *Builder) Add(e Entry, where []Where) error {
	chunks := e.Made()
	if len(where) != len(chunks) {
		return fmt.Errorf("%q has %d chunks, and %d are told of", e.Path, len(chunks), len(where))
	}
	first := len(b.pieces) / pieceSize
	if first+len(chunks) > MaxPieces {
		return fmt.Errorf("the set has more than %d chunks", MaxPieces)
	}
	var at int64
	for i, c := range chunks {
		b.pieces = binary.LittleEndian.AppendUint64(b.pieces, uint64(at))
		b.pieces = binary.LittleEndian.AppendUint64(b.pieces, uint64(where[i].Offset))
		b.pieces = binary.LittleEndian.AppendUint32(b.pieces, c.Length)
		b.pieces = binary.LittleEndian.AppendUint32(b.pieces, b.pack(where[i].Pack))
		at += int64(c.Length)
	}
	b.enter(e)
	r := binary.LittleEndian.AppendUint64(b.records, uint64(len(b.texts)))
	r = binary.LittleEndian.AppendUint16(r, uint16(len(e.Path)))
	r = binary.LittleEndian.AppendUint16(r, uint16(len(e.Target)))
	r = binary.LittleEndian.AppendUint16(r, e.Mode)
	r = append(r, byte(e.Kind), 0)
	r = binary.LittleEndian.AppendUint64(r, uint64(e.Size))
	r = binary.LittleEndian.AppendUint64(r, uint64(e.Modified.UnixNano()))
	r = append(r, e.Digest[:]...)
	r = binary.LittleEndian.AppendUint64(r, uint64(first))
	r = binary.LittleEndian.AppendUint32(r, uint32(len(chunks)))
	b.records = append(r, 0, 0, 0, 0)
	b.texts = append(append(b.texts, e.Path...), e.Target...)
	b.entries++
	return nil
}

// enter counts an entry in all folders that it is below.
func (b *Builder) enter(e Entry) {
	count := func(folder string) {
		f := b.folders[folder]
		if f == nil {
			f = &below{}
			b.folders[folder] = f
			b.order = append(b.order, folder)
		}
		if e.Kind == File {
			f.files++
			f.bytes += e.Size
		}
	}
	count("")
	for i := range len(e.Path) {
		if e.Path[i] == '/' {
			count(e.Path[:i+1])
		}
	}
}

// Build gives the layout. An error is in words: of a path that is a file and a folder.
func (b *Builder) Build() ([]byte, error) {
	for i := range b.entries {
		r := b.records[i*recordSize:]
		at, n := binary.LittleEndian.Uint64(r), binary.LittleEndian.Uint16(r[8:])
		name := string(b.texts[at : at+uint64(n)])
		if !strings.HasSuffix(name, "/") && b.folders[name+"/"] != nil {
			return nil, fmt.Errorf("%.100q is a file or a link, and other files are below it", name)
		}
	}
	slices.Sort(b.order)
	var folders []byte
	for _, name := range b.order {
		f := b.folders[name]
		folders = binary.LittleEndian.AppendUint64(folders, uint64(len(b.texts)))
		folders = binary.LittleEndian.AppendUint16(folders, uint16(len(name)))
		folders = append(folders, 0, 0, 0, 0, 0, 0)
		folders = binary.LittleEndian.AppendUint64(folders, uint64(f.files))
		folders = binary.LittleEndian.AppendUint64(folders, uint64(f.bytes))
		b.texts = append(b.texts, name...)
	}
	whole := make([]byte, 0, headSize+len(b.packs)*packSize+len(b.records)+len(b.pieces)+len(folders)+len(b.texts))
	whole = append(whole, layoutBegin...)
	for _, n := range []int{len(b.packs), b.entries, len(b.pieces) / pieceSize, len(b.order)} {
		whole = binary.LittleEndian.AppendUint64(whole, uint64(n))
	}
	for _, p := range b.packs {
		whole = binary.LittleEndian.AppendUint64(append(whole, p.Digest[:]...), uint64(p.Size))
	}
	whole = append(append(append(whole, b.records...), b.pieces...), folders...)
	return append(whole, b.texts...), nil
}

// places are where the chunks of pieces are, as pieces stand in a layout: each once, pack by pack.
func places(raw []byte) []Piece {
	all := make([]Piece, 0, len(raw)/pieceSize)
	for at := 0; at < len(raw); at += pieceSize {
		all = append(all, parsePiece(raw[at:]))
	}
	slices.SortFunc(all, func(a, b Piece) int {
		return cmp.Or(cmp.Compare(a.Pack, b.Pack), cmp.Compare(a.Offset, b.Offset))
	})
	return slices.CompactFunc(all, func(a, b Piece) bool { return a.Pack == b.Pack && a.Offset == b.Offset })
}

// usedOf is how many bytes of each pack chunks at these places use, with what the packs say of them.
func usedOf(places []Piece, packs int) ([]int64, error) {
	used := make([]int64, packs)
	for _, p := range places {
		if int(p.Pack) >= packs {
			return nil, errLayout
		}
		used[p.Pack] += int64(p.Length) + packEntry
	}
	return used, nil
}

// whole tells whether there is nothing else in a pack than what is used of it.
func (p Pack) whole(used int64) bool { return used+int64(packFooter) >= p.Size }

// Thin are packs of which the set uses so little that its chunks should rather be in a pack of their own: less than a
// quarter of the pack, of those that are foreign less than all of it or, where there are very many such, a few bytes.
// chunks are those that it uses of them, each once, pack by pack.
func (b *Builder) Thin(foreign map[Digest]bool) (thin map[Digest]bool, chunks []Piece) {
	all := places(b.pieces)
	used, _ := usedOf(all, len(b.packs)) // the packs are its own
	little := 0
	for _, n := range used {
		if n < littleBytes {
			little++
		}
	}
	thin = map[Digest]bool{}
	for i, n := range used {
		if pack := b.packs[i]; foreign[pack.Digest] && !pack.whole(n) || n < pack.Size/4 || n < littleBytes &&
			little > mostLittle {
			thin[pack.Digest] = true
		}
	}
	return thin, slices.DeleteFunc(all, func(p Piece) bool { return !thin[b.packs[p.Pack].Digest] })
}

// Of a pack of which a set uses fewer bytes than littleBytes, it uses little; it may use mostLittle such.
const littleBytes, mostLittle = 4 << 20, 32

// Packs are those that the layout uses.
func (b *Builder) Packs() []Pack { return b.packs }

// errLayout is that a layout is none.
var errLayout = errors.New("the layout of the set cannot be read")

// record is an entry of a layout as it is read.
type record struct {
	at     uint64
	length uint16
	target uint16
	Entry
	first  uint64
	pieces uint32
}

func parseRecord(r []byte) (e record) {
	u := binary.LittleEndian
	e.at, e.length, e.target = u.Uint64(r), u.Uint16(r[8:]), u.Uint16(r[10:])
	e.Mode, e.Kind = u.Uint16(r[12:]), Kind(r[14])
	e.Size, e.Modified = int64(u.Uint64(r[16:])), time.Unix(0, int64(u.Uint64(r[24:]))).UTC()
	copy(e.Digest[:], r[32:64])
	e.first, e.pieces = u.Uint64(r[64:]), u.Uint32(r[72:])
	return e
}
