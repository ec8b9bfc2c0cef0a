package makeup

import (
	"bytes"
	"encoding/binary"
	"path"
	"strings"
)

// Unpacked are the files of an archive, by path. What all of them have in common as their folder is
// left out of their paths, since it often names the version.
func Unpacked(files []File) Tree {
	common := ""
	for i, f := range files {
		first, _, within := strings.Cut(f.Path, "/")
		if !within || i > 0 && first != common {
			common = ""
			break
		}
		common = first
	}
	t := make(Tree, len(files))
	for i := range files {
		if common != "" {
			files[i].Path = files[i].Path[len(common)+1:]
		}
		t[files[i].Path] = &files[i]
	}
	return t
}

// HeadLength is how many of the first bytes of a file CodeOf looks at.
const HeadLength = 64

// CodeOf tells by the first bytes of a file for what it is code; "" if it is none that a processor, or
// a machine that stands for one, runs as it is. Java's classes are none.
func CodeOf(head []byte) string {
	switch {
	case bytes.HasPrefix(head, []byte("\x7fELF")):
		return "ELF" // System V ABI, chapter 4
	case bytes.HasPrefix(head, []byte("\x00asm")):
		return "WebAssembly" // WebAssembly core specification, 5.5.16
	case len(head) >= HeadLength && bytes.HasPrefix(head, []byte("MZ")):
		// At 0x3c is where the header of the portable executable is (PE format, MS-DOS stub).
		if at := binary.LittleEndian.Uint32(head[0x3c:]); at >= 0x40 && at < 1<<16 {
			return "PE"
		}
	case len(head) >= 8:
		switch binary.BigEndian.Uint32(head) {
		case 0xfeedface, 0xfeedfacf, 0xcefaedfe, 0xcffaedfe:
			return "Mach-O"
		case 0xcafebabe:
			// So does a class of Java begin, of which the version follows: 45 or more.
			if binary.BigEndian.Uint32(head[4:]) < 45 {
				return "Mach-O"
			}
		}
	}
	return ""
}

// sources are how the archives of packages end that people look into, those first that are made of
// sources.
var sources = []string{".tar.gz", ".tgz", ".crate", ".tar.bz2", ".zip", ".nupkg", ".whl", ".jar", ".war", ".aar"}

// Choose gives the archive to look into of those that a version has, by its name; "" if there is none.
func Choose(names []string) string {
	for _, end := range sources {
		for _, name := range names {
			if base := path.Base(name); strings.HasSuffix(base, end) && !strings.HasSuffix(base, "-sources.jar") &&
				!strings.HasSuffix(base, "-javadoc.jar") {
				return name
			}
		}
	}
	return ""
}
