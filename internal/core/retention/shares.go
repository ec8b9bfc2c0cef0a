package retention

// Shares tells what the removal of versions frees, where some share bytes with
// others: bytes that anything kept names too are not freed, and those that several
// swept versions share count once, for the last of them.
type Shares struct {
	holders map[int64][]int32 // by version: the shared files that it names, once for each file
	sizes   []int64
	left    []int32 // how many versions name it that are not swept
	last    int64   // the version that was added last
}

// File begins the next stored file that more than one version names, or one version
// twice; its size is in bytes.
func (s *Shares) File(size int64) {
	if s.holders == nil {
		s.holders = map[int64][]int32{}
	}
	s.sizes, s.left, s.last = append(s.sizes, size), append(s.left, 0), 0
}

// Holder adds a version that names the last file, once for each of its files that
// has those bytes; all of a version come one after the other.
func (s *Shares) Holder(version int64) {
	at := len(s.sizes) - 1
	s.holders[version] = append(s.holders[version], int32(at))
	if version != s.last {
		s.left[at]++
		s.last = version
	}
}

// Free notes that a version goes, whose files have so many bytes in all, and
// gives how many of them are freed by that.
func (s *Shares) Free(version, bytes int64) int64 {
	previous := int32(-1)
	for _, file := range s.holders[version] {
		bytes -= s.sizes[file]
		if file == previous {
			continue
		}
		previous = file
		if s.left[file]--; s.left[file] == 0 {
			bytes += s.sizes[file]
		}
	}
	return bytes
}
