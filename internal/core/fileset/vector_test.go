package fileset

import (
	"crypto/sha256"
	"encoding/binary"
)

// Vector is the content of docs/file-sets.md by which another client can see whether it cuts as this one: for i from
// 0 on the SHA-256 of i as eight bytes in little endian.
func Vector(n int) []byte {
	content := make([]byte, 0, n)
	for i := uint64(0); len(content) < n; i++ {
		sum := sha256.Sum256(binary.LittleEndian.AppendUint64(nil, i))
		content = append(content, sum[:]...)
	}
	return content[:n]
}

// What the first 8 MiB of it are cut into: so many chunks, and the first one's length and how its SHA-256 begins.
const (
	chunksOfVector = 28
	firstVector    = "278539 ec45c90f"
)
