package symbols

import (
	"debug/elf"
	"encoding/binary"
	"errors"
	"io"
	"strings"
)

// Loaded is a program or a library that was loaded when a process was written down.
type Loaded struct{ Path, BuildID string }

// noteFile is the type of the note that lists the files which were mapped (Linux, NT_FILE).
const noteFile = 0x46494c45

// maxCoreNote is how long the notes of a core file may be, in bytes.
const maxCoreNote = 64 << 20

// InCore lists what was loaded by a process whose memory is in a core file (ELF, ET_CORE), as far as its build id can
// be read there: the first page of each is written down by default (core(5), coredump_filter).
func InCore(r io.ReaderAt) (all []Loaded, err error) {
	defer func() {
		if recover() != nil {
			all, err = nil, errors.New("it is not what it begins as")
		}
	}()
	f, err := elf.NewFile(r)
	if err != nil {
		return nil, err
	}
	if f.Type != elf.ET_CORE {
		return nil, errors.New("it is a program, and not the memory of one")
	}
	word := int64(8)
	if f.Class == elf.ELFCLASS32 {
		word = 4
	}
	for _, p := range f.Progs {
		if p.Type != elf.PT_NOTE || p.Filesz > maxCoreNote {
			continue
		}
		raw := make([]byte, p.Filesz)
		if _, err := p.ReadAt(raw, 0); err != nil {
			return nil, err
		}
		for _, m := range mapped(raw, f.ByteOrder, word) {
			if m.offset != 0 {
				continue
			}
			id, ok := idInMemory(&memory{f, m.begin}, f.ByteOrder, word)
			if !ok {
				continue // data, or not written down
			}
			all = append(all, Loaded{m.path, id})
		}
	}
	return all, nil
}

// mostHeaders is how many program headers one may have that was loaded.
const mostHeaders = 1000

// idInMemory reads the build id of a program where it was loaded, by its program headers (System V ABI, "Program
// Header"): those of its sections are not loaded. ok is false if nothing of the kind is there.
func idInMemory(m *memory, order binary.ByteOrder, word int64) (id string, ok bool) {
	head := make([]byte, 64)
	if _, err := m.ReadAt(head, 0); err != nil || string(head[:4]) != "\x7fELF" {
		return "", false
	}
	at, size, count := int64(order.Uint64(head[32:])), int64(order.Uint16(head[54:])), int64(order.Uint16(head[56:]))
	if word == 4 {
		at, size, count = int64(order.Uint32(head[28:])), int64(order.Uint16(head[42:])), int64(order.Uint16(head[44:]))
	}
	if size < 32 || size > 256 || count > mostHeaders {
		return "", false
	}
	base := int64(-1) // the lowest address that it was made for
	type note struct{ address, length int64 }
	var notes []note
	for i := range count {
		one := make([]byte, size)
		if _, err := m.ReadAt(one, at+i*size); err != nil {
			return "", true
		}
		var address, length int64
		if word == 4 {
			address, length = int64(order.Uint32(one[8:])), int64(order.Uint32(one[16:]))
		} else {
			address, length = int64(order.Uint64(one[16:])), int64(order.Uint64(one[32:]))
		}
		switch elf.ProgType(order.Uint32(one)) {
		case elf.PT_LOAD:
			if base < 0 || address < base {
				base = address
			}
		case elf.PT_NOTE:
			if length > 0 && length <= maxNote {
				notes = append(notes, note{address, length})
			}
		}
	}
	for _, n := range notes {
		raw := make([]byte, n.length)
		if _, err := m.ReadAt(raw, n.address-max(base, 0)); err != nil {
			continue
		}
		if id := idInNotes(raw, order); id != "" {
			return id, true
		}
	}
	return "", true
}

// memory is what a core file has from an address on.
type memory struct {
	core *elf.File
	base uint64
}

// ReadAt implements io.ReaderAt.
func (m *memory) ReadAt(b []byte, at int64) (int, error) {
	address := m.base + uint64(at)
	for _, p := range m.core.Progs {
		if p.Type == elf.PT_LOAD && address >= p.Vaddr && address < p.Vaddr+p.Filesz {
			return p.ReadAt(b, int64(address-p.Vaddr))
		}
	}
	return 0, io.EOF
}

type mapping struct {
	begin, offset uint64
	path          string
}

// mapped reads the note that lists what files were mapped.
func mapped(raw []byte, order binary.ByteOrder, word int64) (all []mapping) {
	number := func(b []byte) uint64 {
		if word == 4 {
			return uint64(order.Uint32(b))
		}
		return order.Uint64(b)
	}
	for int64(len(raw)) >= 12 {
		owner, length, kind := int64(order.Uint32(raw)), int64(order.Uint32(raw[4:])), order.Uint32(raw[8:])
		begin := 12 + (owner+3)/4*4
		end := begin + length
		if end > int64(len(raw)) {
			return all
		}
		if note := raw[begin:end]; kind == noteFile && length >= 2*word {
			count := int64(number(note))
			if count > length/(3*word) {
				return all
			}
			names := strings.Split(string(note[2*word+3*word*count:]), "\x00")
			for i := range count {
				one := note[2*word+3*word*i:]
				if i < int64(len(names)) {
					all = append(all, mapping{number(one), number(one[2*word:]), names[i]})
				}
			}
		}
		raw = raw[min((end+3)/4*4, int64(len(raw))):]
	}
	return all
}
