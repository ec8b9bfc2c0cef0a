// Package symbols tells by which ids debuggers know programs and what is to be known of them: ELF, PE, PDB and Mach-O
// files, and the source maps of scripts.
package symbols

import (
	"bytes"
	"debug/elf"
	"debug/macho"
	"debug/pe"
	"encoding/binary"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"path"
	"strings"

	"crelvo/internal/core/catalog"
)

// Format is the kind of a file.
type Format string

// Formats.
const (
	ELF         Format = "elf"
	PE          Format = "pe"
	PDB         Format = "pdb"          // of Windows programs (Microsoft's MSF 7.00)
	PortablePDB Format = "portable-pdb" // of .NET (ECMA-335, with the Portable PDB extensions)
	MachO       Format = "mach-o"
	SourceMap   Format = "source-map" // ECMA-426
)

// Symbol is a file that a debugger may ask for.
type Symbol struct {
	Format Format
	// Key is what it is asked for by, in small letters: the build id of ELF, the uuid of Mach-O, and of PE and PDB the
	// key that symbol servers have (SSQP, "Simple Symbol Query Protocol", key conventions); "" of source maps, which
	// are known by their names.
	Key string
	// Code: it can be run, or has the code of a library. Debug: it has what a debugger wants to know.
	Code, Debug bool
}

// Type is the type in purls of what upstreams have of a build id.
const Type = "symbols"

// LookedInto are the ecosystems whose packages are looked into, since they may have programs in them.
var LookedInto = []string{"generic", "nuget", "pypi", "npm", "maven", "cargo", Type}

// At is something that debuggers may ask for, and where it is.
type At struct {
	Symbol
	Of              catalog.PackageKey
	VersionID       int64
	Version, Upload string
	// File is that of the version; "" of a file set. Path is within it or the set; "" if it is the file itself.
	File, Path string
	Size       int64  // bytes
	MadeBy     string // NAME#NUMBER of the build; "" if none is known
}

// Name is what it is called.
func (a At) Name() string {
	if a.Path != "" {
		return path.Base(a.Path)
	}
	return a.File
}

// maxNote is how long a note may be that has a build id, in bytes.
const maxNote = 64 << 10

// headLength is how much of a file tells of what kind it is.
const headLength = 64

// Identify tells what a file is for debuggers; none if it is nothing for them. An error is in words, of a file that
// begins as one of these and cannot be read.
func Identify(name string, r io.ReaderAt, size int64) (all []Symbol, err error) {
	defer func() {
		// The readers of the standard library are not made for files that want to harm.
		if recover() != nil {
			all, err = nil, errors.New("it is not what it begins as")
		}
	}()
	head := make([]byte, headLength)
	n, err := r.ReadAt(head, 0)
	if err != nil && !errors.Is(err, io.EOF) {
		return nil, err
	}
	head = head[:n]
	has := func(magic string) bool { return bytes.HasPrefix(head, []byte(magic)) }
	switch {
	case has("\x7fELF"):
		return identifyELF(r)
	case has("MZ"):
		return identifyPE(r)
	case has(msfMagic):
		return identifyPDB(r, size)
	case has("BSJB"):
		return identifyPortable(r, size)
	case has("\xfe\xed\xfa\xce"), has("\xfe\xed\xfa\xcf"), has("\xce\xfa\xed\xfe"), has("\xcf\xfa\xed\xfe"):
		f, err := macho.NewFile(r)
		if err != nil {
			return nil, err
		}
		return identifyMachO(f), nil
	case has("\xca\xfe\xba\xbe"):
		f, err := macho.NewFatFile(r)
		if err != nil {
			return nil, nil // a Java class begins so, too
		}
		for _, a := range f.Arches {
			all = append(all, identifyMachO(a.File)...)
		}
		return all, nil
	case strings.EqualFold(path.Ext(name), ".map") && has("{"):
		return []Symbol{{Format: SourceMap, Debug: true}}, nil
	}
	return nil, nil
}

// May tells whether a file that begins so (with four bytes, if it has as many) may be something for debuggers.
func May(head []byte) bool {
	for _, magic := range []string{"\x7fELF", "MZ", msfMagic[:4], "BSJB", "\xfe\xed\xfa\xce", "\xfe\xed\xfa\xcf", "\xce\xfa\xed\xfe",
		"\xcf\xfa\xed\xfe", "\xca\xfe\xba\xbe", "{"} {
		if bytes.HasPrefix(head, []byte(magic)) {
			return true
		}
	}
	return false
}

func identifyELF(r io.ReaderAt) ([]Symbol, error) {
	f, err := elf.NewFile(r)
	if err != nil {
		return nil, err
	}
	id := buildID(f)
	if id == "" {
		return nil, nil
	}
	s := Symbol{Format: ELF, Key: id}
	for _, section := range f.Sections {
		there := section.Type != elf.SHT_NOBITS && section.Size > 0
		switch section.Name {
		case ".debug_info", ".zdebug_info":
			s.Debug = s.Debug || there
		case ".text":
			s.Code = s.Code || there
		}
	}
	return []Symbol{s}, nil
}

// noteGNU is the type of the note with the build id, whose owner is GNU.
const noteGNU = 3

// mostNotes is how many notes are looked at.
const mostNotes = 100

func buildID(f *elf.File) string {
	looked := 0
	for _, section := range f.Sections {
		if looked++; section.Type == elf.SHT_NOTE && section.Size <= maxNote && looked <= mostNotes {
			if raw, err := section.Data(); err == nil {
				if id := idInNotes(raw, f.ByteOrder); id != "" {
					return id
				}
			}
		}
	}
	for i, p := range f.Progs {
		if p.Type == elf.PT_NOTE && p.Filesz <= maxNote && i < mostNotes {
			raw := make([]byte, p.Filesz)
			if _, err := p.ReadAt(raw, 0); err == nil {
				if id := idInNotes(raw, f.ByteOrder); id != "" {
					return id
				}
			}
		}
	}
	return ""
}

// idInNotes finds the build id among notes (System V ABI, "Note Section"); "" if it is not there.
func idInNotes(raw []byte, order binary.ByteOrder) string {
	for len(raw) >= 12 {
		owner, length, kind := int64(order.Uint32(raw)), int64(order.Uint32(raw[4:])), order.Uint32(raw[8:])
		begin := 12 + (owner+3)/4*4
		end := begin + length
		if end > int64(len(raw)) {
			return ""
		}
		if kind == noteGNU && owner == 4 && string(raw[12:16]) == "GNU\x00" && length > 0 && length <= 64 {
			return hex.EncodeToString(raw[begin:end])
		}
		raw = raw[min((end+3)/4*4, int64(len(raw))):]
	}
	return ""
}

func identifyPE(r io.ReaderAt) ([]Symbol, error) {
	f, err := pe.NewFile(r)
	if err != nil {
		return nil, nil // older programs begin so, too
	}
	var image uint32
	switch h := f.OptionalHeader.(type) {
	case *pe.OptionalHeader32:
		image = h.SizeOfImage
	case *pe.OptionalHeader64:
		image = h.SizeOfImage
	default:
		return nil, nil
	}
	return []Symbol{{Format: PE, Key: fmt.Sprintf("%08x%x", f.TimeDateStamp, image), Code: true}}, nil
}

// uuidCommand is the load command with the uuid of a Mach-O file.
const uuidCommand, dsymType = 0x1b, 10

func identifyMachO(f *macho.File) []Symbol {
	s := Symbol{Format: MachO, Code: f.Type != dsymType, Debug: f.Section("__debug_info") != nil}
	for _, load := range f.Loads {
		if raw := load.Raw(); len(raw) >= 24 && f.ByteOrder.Uint32(raw) == uuidCommand {
			s.Key = hex.EncodeToString(raw[8:24])
		}
	}
	if s.Key == "" {
		return nil
	}
	return []Symbol{s}
}

const msfMagic = "Microsoft C/C++ MSF 7.00\r\n\x1aDS\x00\x00\x00"

// msf is a file of streams, each of which is a list of blocks.
type msf struct {
	r     io.ReaderAt
	size  int64
	block int64
}

// blocks reads what is in some blocks, at most so many bytes of it.
func (m msf) blocks(numbers []uint32, length int64) ([]byte, error) {
	all := make([]byte, 0, length)
	for _, n := range numbers {
		some := min(m.block, length-int64(len(all)))
		if some <= 0 {
			break
		}
		part := make([]byte, some)
		if at := int64(n) * m.block; at+some > m.size {
			return nil, errors.New("a block of it is beyond its end")
		} else if _, err := m.r.ReadAt(part, at); err != nil && !errors.Is(err, io.EOF) {
			return nil, err
		}
		all = append(all, part...)
	}
	if int64(len(all)) < length {
		return nil, errors.New("a stream of it is cut")
	}
	return all, nil
}

func numbers(raw []byte) []uint32 {
	all := make([]uint32, len(raw)/4)
	for i := range all {
		all[i] = binary.LittleEndian.Uint32(raw[4*i:])
	}
	return all
}

// maxDirectory is how long the directory of a PDB may be, in bytes.
const maxDirectory = 16 << 20

// identifyPDB reads the second stream, which has the guid, and the fourth, which has the age that the program knows.
func identifyPDB(r io.ReaderAt, size int64) ([]Symbol, error) {
	head := make([]byte, len(msfMagic)+24)
	if _, err := r.ReadAt(head, 0); err != nil {
		return nil, err
	}
	head = head[len(msfMagic):]
	u := binary.LittleEndian
	m := msf{r, size, int64(u.Uint32(head))}
	directory := int64(u.Uint32(head[12:]))
	if m.block < 512 || m.block > 65536 || directory > maxDirectory || directory < 4 {
		return nil, errors.New("its head is not possible")
	}
	of := func(length int64) int64 { return (length + m.block - 1) / m.block }
	map0, err := m.blocks(contiguous(u.Uint32(head[20:]), of(4*of(directory))), 4*of(directory))
	if err != nil {
		return nil, err
	}
	raw, err := m.blocks(numbers(map0), directory)
	if err != nil {
		return nil, err
	}
	all := numbers(raw)
	count := int(all[0])
	if count < 2 || count >= len(all) {
		return nil, errors.New("its directory is not possible")
	}
	stream := func(i int, length int64) ([]byte, error) {
		at := 1 + count
		for k := range count {
			n := all[1+k]
			if n == ^uint32(0) {
				n = 0
			}
			blocks := int(of(int64(n)))
			if at+blocks > len(all) {
				return nil, errors.New("its directory is not possible")
			}
			if k == i {
				if int64(n) < length {
					return nil, errors.New("a stream of it is too short")
				}
				return m.blocks(all[at:at+blocks], length)
			}
			at += blocks
		}
		return nil, errors.New("it lacks a stream")
	}
	is, err := stream(1, 28)
	if err != nil {
		return nil, err
	}
	age := u.Uint32(is[8:])
	if debug, err := stream(3, 12); err == nil {
		age = u.Uint32(debug[8:])
	}
	return []Symbol{{Format: PDB, Key: guid(is[12:28]) + fmt.Sprintf("%x", age), Debug: true}}, nil
}

func contiguous(first uint32, n int64) []uint32 {
	all := make([]uint32, n)
	for i := range all {
		all[i] = first + uint32(i)
	}
	return all
}

// guid is one as symbol servers write it: its first three parts are in little endian.
func guid(raw []byte) string {
	u := binary.LittleEndian
	return fmt.Sprintf("%08x%04x%04x%x", u.Uint32(raw), u.Uint16(raw[4:]), u.Uint16(raw[6:]), raw[8:16])
}

// maxRoot is how long the head of metadata may be, in bytes.
const maxRoot = 64 << 10

// identifyPortable finds the stream #Pdb, which begins with the id (ECMA-335, II.24.2.1; Portable PDB v1.0, "#Pdb
// stream").
func identifyPortable(r io.ReaderAt, size int64) ([]Symbol, error) {
	raw := make([]byte, min(size, maxRoot))
	if _, err := r.ReadAt(raw, 0); err != nil && !errors.Is(err, io.EOF) {
		return nil, err
	}
	u := binary.LittleEndian
	if len(raw) < 16 {
		return nil, errors.New("it is cut")
	}
	at := 16 + int64(u.Uint32(raw[12:]))
	if at+4 > int64(len(raw)) {
		return nil, errors.New("it is cut")
	}
	streams := int(u.Uint16(raw[at+2:]))
	for at += 4; streams > 0 && at+8 < int64(len(raw)); streams-- {
		offset := int64(u.Uint32(raw[at:]))
		end := bytes.IndexByte(raw[at+8:], 0)
		if end < 0 {
			break
		}
		if string(raw[at+8:at+8+int64(end)]) == "#Pdb" {
			id := make([]byte, 16)
			if _, err := r.ReadAt(id, offset); err != nil {
				return nil, errors.New("it is cut")
			}
			return []Symbol{{Format: PortablePDB, Key: guid(id) + "ffffffff", Debug: true}}, nil
		}
		at += 8 + int64(end/4+1)*4
	}
	return nil, nil // metadata of something else
}

// NameOf is what a file is called that is within another one, or is that one, in small letters.
func NameOf(file, within string) string {
	if within == "" {
		within = file
	}
	return strings.ToLower(path.Base(within))
}

// SourceAmong finds the file among some that a compiler knew by a path, which may have been elsewhere then: the one
// that has most of the path's end in common with it, and at least its name; "" if none has, or two have as much.
func SourceAmong(names []string, source string) (best string) {
	wanted := strings.Split(strings.Trim(path.Clean("/"+source), "/"), "/")
	most := 0
	for _, name := range names {
		has, n := strings.Split(name, "/"), 0
		for n < len(has) && n < len(wanted) && has[len(has)-1-n] == wanted[len(wanted)-1-n] {
			n++
		}
		switch {
		case n > most:
			best, most = name, n
		case n == most && n > 0:
			best = "" // either may be meant
		}
	}
	return best
}
