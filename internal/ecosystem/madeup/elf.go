package madeup

import (
	"bytes"
	"debug/elf"
	"encoding/binary"
	"encoding/hex"
)

// ELF is a program for 64-bit x86 with a build id, in hexadecimal: with code or without, and with something for
// debuggers or without, as strip and objcopy leave it. Nobody can run it.
func ELF(buildID string, code, debug bool) []byte {
	id, _ := hex.DecodeString(buildID) // of what is none, there is none
	u := binary.LittleEndian
	note := u.AppendUint32(nil, 4)
	note = u.AppendUint32(u.AppendUint32(note, uint32(len(id))), 3)
	note = append(append(note, "GNU\x00"...), id...)
	sections := []elf.Section64{{}}
	names, body := "\x00", make([]byte, 64) // of the header
	add := func(name string, kind elf.SectionType, content []byte) {
		s := elf.Section64{Name: uint32(len(names)), Type: uint32(kind), Off: uint64(len(body)), Size: uint64(len(content)),
			Addralign: 1}
		names += name + "\x00"
		if kind != elf.SHT_NOBITS {
			body = append(body, content...)
		}
		sections = append(sections, s)
	}
	add(".note.gnu.build-id", elf.SHT_NOTE, note)
	text := bytes.Repeat([]byte{0x90}, 4096)
	if code {
		add(".text", elf.SHT_PROGBITS, text)
	} else {
		add(".text", elf.SHT_NOBITS, text)
	}
	if debug {
		add(".debug_info", elf.SHT_PROGBITS, bytes.Repeat([]byte("made up "), 512))
	}
	add(".shstrtab", elf.SHT_STRTAB, []byte(names+".shstrtab\x00"))
	head := elf.Header64{Type: uint16(elf.ET_DYN), Machine: uint16(elf.EM_X86_64), Version: 1, Shoff: uint64(len(body)),
		Ehsize:    64,
		Shentsize: 64, Shnum: uint16(len(sections)), Shstrndx: uint16(len(sections) - 1)}
	copy(head.Ident[:], "\x7fELF\x02\x01\x01")
	var whole bytes.Buffer
	for _, part := range []any{head, body[64:], sections} {
		_ = binary.Write(&whole, u, part) // a buffer takes everything
	}
	return whole.Bytes()
}
