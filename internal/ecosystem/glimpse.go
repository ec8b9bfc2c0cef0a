package ecosystem

import (
	"cmp"
	"errors"
	"io"
	"slices"
)

// ErrUnseen is what reading a Glimpse gives where it was not seen yet.
var ErrUnseen = errors.New("this part was not seen yet")

// How much of a file is asked for at a time, and how much of one is looked at, in
// bytes.
const (
	glance     = 64 << 10
	MostOfFile = 4 << 20
)

// Stretch is a stretch of a file.
type Stretch struct {
	At    int64
	Bytes []byte
}

// Glimpse is a file of which only stretches are known: enough, often, to tell what it
// is before all of it is sent. It notes the first part that was read and is missing.
// It is for one reader at a time.
type Glimpse struct {
	size      int64
	stretches []Stretch // by offset, apart from each other
	seen      int64
	missed    bool
	wants     Stretch // without its bytes
	length    int64
}

// NewGlimpse is a file of that size, of which these stretches are known. Stretches outside
// of it, and what overlaps another, count for nothing.
func NewGlimpse(size int64, stretches []Stretch) *Glimpse {
	g := &Glimpse{size: size}
	sorted := slices.Clone(stretches)
	slices.SortFunc(sorted, func(a, b Stretch) int { return cmp.Compare(a.At, b.At) })
	for _, p := range sorted {
		if p.At < 0 || p.At > size || len(p.Bytes) == 0 {
			continue
		}
		p.Bytes = p.Bytes[:min(int64(len(p.Bytes)), size-p.At)]
		if n := len(g.stretches); n > 0 {
			last := &g.stretches[n-1]
			end := last.At + int64(len(last.Bytes))
			skip := min(max(end-p.At, 0), int64(len(p.Bytes)))
			if p.Bytes = p.Bytes[skip:]; p.At+skip == end {
				last.Bytes = slices.Concat(last.Bytes, p.Bytes)
				g.seen += int64(len(p.Bytes))
				continue
			}
			p.At += skip
		}
		g.seen += int64(len(p.Bytes))
		g.stretches = append(g.stretches, p)
	}
	return g
}

// Size implements SizedReaderAt.
func (g *Glimpse) Size() int64 { return g.size }

// ReadAt implements SizedReaderAt. It gives ErrUnseen for what is not known.
func (g *Glimpse) ReadAt(p []byte, off int64) (int, error) {
	if off < 0 || off >= g.size {
		return 0, io.EOF
	}
	end := min(off+int64(len(p)), g.size)
	from := off
	for _, part := range g.stretches {
		until := part.At + int64(len(part.Bytes))
		if from < part.At || from >= until {
			continue
		}
		n := copy(p[:end-off], part.Bytes[from-part.At:])
		if from += int64(n); from < end {
			g.miss(from, end, until-part.At)
			return n, ErrUnseen
		}
		if int(end-off) < len(p) {
			return n, io.EOF
		}
		return n, nil
	}
	if end > off {
		known := int64(0)
		for _, part := range g.stretches {
			if part.At+int64(len(part.Bytes)) == off { // it is read on from what is known
				known = int64(len(part.Bytes))
			}
		}
		g.miss(off, end, known)
	}
	return 0, ErrUnseen
}

// miss notes what is missing, and what may be wanted next: whoever reads on and on is
// given twice as much each time.
func (g *Glimpse) miss(from, end, known int64) {
	if g.missed {
		return
	}
	g.missed = true
	g.wants.At = from
	g.length = min(max(end-from, glance, known), g.size-from)
	if tail := g.size - glance; from > tail && known == 0 {
		g.wants.At = max(0, tail)
		g.length = g.size - g.wants.At
	}
}

// Wants is the part that is to be seen before it can be told what the file is; length
// is 0 if none is, or if more of it has been looked at than is worth it.
func (g *Glimpse) Wants() (at, length int64) {
	if !g.missed || g.seen >= MostOfFile {
		return 0, 0
	}
	return g.wants.At, min(g.length, MostOfFile-g.seen)
}

// Missed tells whether anything was read that is not known.
func (g *Glimpse) Missed() bool { return g.missed }

// Again forgets what was missed.
func (g *Glimpse) Again() { g.missed, g.length = false, 0 }

// glimpsed tells whether a file is only looked at. What is asked of files as a whole
// is asked of it when it arrives.
func glimpsed(file SizedReaderAt) bool {
	if h, ok := file.(Handed); ok {
		file = h.SizedReaderAt
	}
	_, ok := file.(*Glimpse)
	return ok
}
