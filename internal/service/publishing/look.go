package publishing

import (
	"context"
	"errors"
	"slices"
	"strings"

	"crelvo/internal/api"
	"crelvo/internal/core/access"
	"crelvo/internal/core/budget"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/purl"
	"crelvo/internal/core/text"
	"crelvo/internal/ecosystem"
	"crelvo/internal/service/store"
)

// MostLookedAt is how many bytes of all files together are asked for to tell what they
// are.
const MostLookedAt = 16 << 20

// lookLimits is what one look may cost, all files and all tries of what belongs together.
var lookLimits = budget.Limits{Bytes: 1 << 30, Held: budget.Default.Held, Elements: budget.Default.Elements}

// Glimpsed is a file that may be published, as far as it was looked at.
type Glimpsed struct {
	Name   string
	Size   int64
	SHA256 *[32]byte // nil if it is not known
	// Arriving is what the caller sends it as in pieces; "" of what is not sent so. Where
	// bytes of its size are here, its digest is wanted.
	Arriving  string
	As        purl.PURL // zero if the file says it itself
	Stretches []ecosystem.Stretch
}

// Intended is what files would become if they were published.
type Intended struct {
	Files      []IntendedFile
	PURL       purl.PURL // zero if nobody can tell
	Repository string    // that would take it
	Snapshot   bool
	// There: such a version is there already; Same: byte for byte, of a snapshot the newest upload.
	There, Same bool
	// Refusal is why it would not be taken; nil if nothing speaks against it so far.
	Refusal error
}

// IntendedFile is one of them. File is its index; -1 of one that is made.
type IntendedFile struct {
	File int
	Name string
	Size int64
	// Here: the service has its bytes, where the caller may read them.
	Here bool
	// Arrived is how many bytes of it the caller has sent in pieces.
	Arrived int64
}

// Wanted is a part of a file that is to be seen before it can be told what it is, or its
// digest before it can be told whether it is here.
type Wanted struct {
	File       int
	At, Length int64
	Digest     bool
}

// Look tells what files would become in a repository, before they are sent. together
// takes them as one publication, and as as what it is; else each is looked at by itself,
// and those of one version are put together. While parts of files are wanted, what is
// told is not final.
func (s *Publishing) Look(
	ctx context.Context, caller access.Caller, repositoryName string, as purl.PURL, together bool, files []Glimpsed,
) ([]Intended, []Wanted, error) {
	repository, err := s.directory.Repository(caller, repositoryName, access.Publish)
	if err != nil {
		return nil, nil, err
	}
	if len(files) == 0 {
		return nil, nil, fault.New(fault.Invalid, "no-file", "no file was named").WithHint("Give at least one package file.")
	}
	ctx = budget.With(ctx, lookLimits)
	l := look{service: s, caller: caller, repository: repository, files: files,
		handed: make([]ecosystem.Handed, len(files))}
	for _, f := range files {
		if err := text.CheckFileName(f.Name); err != nil {
			return nil, nil, err
		}
		if f.Arriving != "" {
			if err := checkArriving(f.Arriving); err != nil {
				return nil, nil, err
			}
		}
		for _, p := range f.Stretches {
			l.seen += int64(len(p.Bytes))
		}
	}
	if l.arrived, err = s.arrived(ctx, caller); err != nil {
		return nil, nil, s.store.Fault(err)
	}
	if l.here, err = s.bytesFor(ctx, caller, files); err != nil {
		return nil, nil, err
	}
	for i, f := range files {
		l.handed[i] = ecosystem.Handed{Name: f.Name, SizedReaderAt: ecosystem.NewGlimpse(f.Size, f.Stretches)}
		if l.file(i, f.Name, f.Size).Here {
			here := &hereFile{ctx: ctx, store: s.store, of: catalog.File{Name: f.Name}}
			here.of.Digests.SHA256, here.of.Digests.Size = *f.SHA256, f.Size
			defer here.close()
			l.handed[i].SizedReaderAt = here
		}
	}
	if err := l.wantDigests(ctx); err != nil {
		return nil, nil, err
	}
	var groups []*group
	if together {
		groups = []*group{l.group(ctx, indexes(len(files)), as)}
	} else {
		groups = l.sort(ctx)
	}
	var all []Intended
	for _, g := range groups {
		intended, err := l.judge(ctx, g)
		if err != nil {
			return nil, nil, err
		}
		all = append(all, intended)
	}
	return all, l.wanted, nil
}

// hereFile is a file whose bytes are here: nothing of it has to be seen. It is opened when it is read.
type hereFile struct {
	ctx    context.Context
	store  *store.Store
	of     catalog.File
	opened ecosystem.SeekableFile
}

// Size implements ecosystem.SizedReaderAt.
func (h *hereFile) Size() int64 { return h.of.Digests.Size }

// ReadAt implements io.ReaderAt.
func (h *hereFile) ReadAt(p []byte, off int64) (n int, err error) {
	if h.opened == nil {
		if h.opened, err = h.store.Open(h.ctx, h.of); err != nil {
			return 0, err
		}
	}
	return h.opened.ReadAt(p, off)
}

func (h *hereFile) close() {
	if h.opened != nil {
		_ = h.opened.Close() // it was only read
	}
}

func indexes(n int) (all []int) {
	for i := range n {
		all = append(all, i)
	}
	return all
}

// look is the state of one Look.
type look struct {
	service    *Publishing
	caller     access.Caller
	repository catalog.Repository
	files      []Glimpsed
	handed     []ecosystem.Handed
	here       map[[32]byte]int64
	arrived    map[string]int64
	seen       int64
	wanted     []Wanted
}

// group is files that are one version, or that nobody knows.
type group struct {
	files     []int
	ecosystem ecosystem.Ecosystem // nil if it is not known
	placed    []ecosystem.Placed
	err       error
	open      bool // more is wanted of them
}

func (g *group) purl() purl.PURL {
	if g.err != nil {
		return purl.PURL{}
	}
	return g.placed[0].Place.PURL(g.ecosystem.Name())
}

// group asks what some of the files are together.
func (l *look) group(ctx context.Context, files []int, as purl.PURL) *group {
	g := &group{files: files}
	handed := make([]ecosystem.Handed, len(files))
	for i, f := range files {
		handed[i] = l.handed[f]
		if glimpse, ok := handed[i].SizedReaderAt.(*ecosystem.Glimpse); ok {
			glimpse.Again()
		}
	}
	g.ecosystem, g.placed, g.err = l.service.recognise(ctx, handed, as)
	if g.err == nil {
		return g
	}
	for i, f := range files {
		glimpse, ok := handed[i].SizedReaderAt.(*ecosystem.Glimpse)
		if !ok {
			continue
		}
		at, length := glimpse.Wants()
		switch {
		case !glimpse.Missed():
		case slices.ContainsFunc(l.wanted, func(w Wanted) bool { return w.File == f && w.Digest }):
			g.open = true // by which it may be told
		case length == 0 || l.seen+length > MostLookedAt:
			g.err = fault.New(fault.Invalid, api.ToldLater, "%s is not told by its first parts", handed[i].Name).
				WithHint("It can be sent as it is; what it is will be told then.")
		default:
			g.open = true
			l.seen += length
			if !slices.ContainsFunc(l.wanted, func(w Wanted) bool { return w.File == f && w.At == at && !w.Digest }) {
				l.wanted = append(l.wanted, Wanted{File: f, At: at, Length: length})
			}
		}
	}
	return g
}

// sort puts files that are of one version together: those that say so, and those that
// are named like one of them.
func (l *look) sort(ctx context.Context) []*group {
	var groups []*group
	of := map[string]*group{}
	var unknown []*group
	for i, f := range l.files {
		g := l.group(ctx, []int{i}, f.As)
		if g.err != nil {
			unknown = append(unknown, g)
			continue
		}
		key := g.purl().String()
		if f.As.Name != "" {
			key = "as " + f.As.String()
		}
		known, ok := of[key]
		if !ok {
			of[key] = g
			groups = append(groups, g)
			continue
		}
		if both := l.group(ctx, append(slices.Clone(known.files), i), f.As); both.err == nil || both.open {
			*known = *both
			continue
		}
		groups = append(groups, g)
	}
	for _, g := range unknown {
		i := slices.IndexFunc(groups, func(known *group) bool { return !g.open && l.named(known, l.files[g.files[0]].Name) })
		if i >= 0 {
			if both := l.group(ctx, append(slices.Clone(groups[i].files), g.files...),
				l.files[groups[i].files[0]].As); both.err == nil {
				*groups[i] = *both
				continue
			}
		}
		groups = append(groups, g)
	}
	return groups
}

// named tells whether a file is named like those of a version.
func (l *look) named(g *group, name string) bool {
	if g.err != nil {
		return false
	}
	place := g.placed[0].Place
	if rest, ok := strings.CutPrefix(name, place.Name+"-"+place.Version); ok && rest != "" &&
		strings.ContainsAny(rest[:1], "-.") {
		return true
	}
	return slices.ContainsFunc(g.files, func(f int) bool { return strings.HasPrefix(name, l.files[f].Name+".") })
}

// judge tells what would become of a group.
func (l *look) judge(ctx context.Context, g *group) (Intended, error) {
	s := l.service
	in := Intended{Refusal: g.err}
	if g.err != nil {
		for _, f := range g.files {
			in.Files = append(in.Files, l.file(f, l.files[f].Name, l.files[f].Size))
		}
		return in, nil
	}
	place := g.placed[0].Place
	in.PURL, in.Snapshot = g.purl(), place.Snapshot
	for _, p := range g.placed {
		if p.File < 0 {
			in.Files = append(in.Files, IntendedFile{File: -1, Name: p.Place.FileName, Size: int64(len(p.Content))})
			continue
		}
		f := g.files[p.File]
		in.Files = append(in.Files, l.file(f, p.Place.FileName, l.files[f].Size))
	}
	target, err := s.directory.Target(l.caller, l.repository, place.Snapshot)
	if in.Refusal = err; err != nil {
		return in, nil
	}
	in.Repository = target.Name
	for i, p := range g.placed {
		if in.Refusal = s.accepts(l.caller, target, g.ecosystem, p.Place); in.Refusal != nil {
			return in, nil
		}
		if in.Refusal = s.fits(target, in.Files[i].Name, in.Files[i].Size); in.Refusal != nil {
			return in, nil
		}
	}
	if place.Snapshot {
		return in, l.compareNewest(ctx, g, target, &in)
	}
	return in, l.compare(ctx, g, target, &in)
}

func (l *look) file(f int, name string, size int64) IntendedFile {
	is := IntendedFile{File: f, Name: name, Size: size}
	if sum := l.files[f].SHA256; sum != nil {
		has, ok := l.here[*sum]
		is.Here = ok && has == size
	}
	if name := l.files[f].Arriving; name != "" {
		is.Arrived = l.arrived[begunName(l.caller, name)]
	}
	return is
}

// compare tells whether a release is there already, and with other bytes.
func (l *look) compare(ctx context.Context, g *group, target catalog.Repository, in *Intended) error {
	target.Sight = ""
	p, err := l.service.holdings.Package(ctx, g.placed[0].Place.Key(g.ecosystem.Name(), target))
	if errors.Is(err, ecosystem.ErrNoPackage) {
		return nil
	}
	if err != nil {
		return err
	}
	at := slices.IndexFunc(p.Versions, func(v catalog.Version) bool { return v.Version == in.PURL.Version && !v.Snapshot })
	if at < 0 {
		return nil
	}
	v := p.Versions[at]
	in.There, in.Same = true, true
	for _, file := range in.Files {
		if file.File < 0 {
			continue
		}
		sum := l.files[file.File].SHA256
		i := slices.IndexFunc(v.Files, func(f catalog.File) bool { return f.Name == file.Name })
		in.Same = in.Same && i >= 0 && sum != nil && v.Files[i].Digests.SHA256 == *sum
		other := i >= 0 && (v.Files[i].Digests.Size != file.Size || sum != nil && v.Files[i].Digests.SHA256 != *sum)
		if other && in.Refusal == nil {
			names, err := l.service.DB.VersionNames(ctx, p.Key)
			if err != nil {
				return err
			}
			in.Refusal = publishedAlready(p.Key, v.Version, v.PublishedBy, v.PublishedAt, file.Name).
				WithHint("%s", nextFree(p.Key, v.Version, names))
		}
	}
	return nil
}

// compareNewest tells whether the newest upload of a snapshot has the very bytes.
func (l *look) compareNewest(ctx context.Context, g *group, target catalog.Repository, in *Intended) error {
	target.Sight = ""
	p, err := l.service.holdings.Package(ctx, g.placed[0].Place.Key(g.ecosystem.Name(), target))
	if errors.Is(err, ecosystem.ErrNoPackage) {
		return nil
	}
	if err != nil {
		return err
	}
	var newest *catalog.Version
	for i := range p.Versions {
		if v := &p.Versions[i]; v.Version == in.PURL.Version && (newest == nil || v.Newer(*newest)) {
			newest = v
		}
	}
	if newest == nil {
		return nil
	}
	in.There, in.Same = true, true
	for _, file := range in.Files {
		if file.File < 0 {
			continue
		}
		sum := l.files[file.File].SHA256
		in.Same = in.Same && sum != nil && slices.ContainsFunc(newest.Files, func(f catalog.File) bool {
			return f.Digests.SHA256 == *sum
		})
	}
	return nil
}

// bytesFor tells which bytes with the digests of files the service has where the caller
// may read them, and how many they are.
func (s *Publishing) bytesFor(ctx context.Context, caller access.Caller, files []Glimpsed) (map[[32]byte]int64, error) {
	var sums [][]byte
	for _, f := range files {
		if f.SHA256 != nil {
			sums = append(sums, f.SHA256[:])
		}
	}
	if sums == nil {
		return nil, nil
	}
	return s.DB.BytesIn(ctx, sums, s.directory.ScopeOf(s.directory.Readable(caller)...))
}

// wantDigests asks for the digests of large files of whose size the service has bytes,
// where the caller may read them. To compute them for nothing would take as long as to
// send the file.
func (l *look) wantDigests(ctx context.Context) error {
	var sizes []int64
	for _, f := range l.files {
		if f.Arriving != "" && f.SHA256 == nil {
			sizes = append(sizes, f.Size)
		}
	}
	if sizes == nil {
		return nil
	}
	s := l.service
	here, err := s.DB.SizesIn(ctx, sizes, s.directory.ScopeOf(s.directory.Readable(l.caller)...))
	for i, f := range l.files {
		if f.Arriving != "" && f.SHA256 == nil && here[f.Size] {
			l.wanted = append(l.wanted, Wanted{File: i, Digest: true})
		}
	}
	return err
}

// hereAlready opens bytes that the service has, for a publication that names them by
// their digest in place of sending them.
func (s *Publishing) hereAlready(
	ctx context.Context, caller access.Caller, repository catalog.Repository, name string, sum [32]byte,
) (*store.Staging, error) {
	there, err := s.DB.BytesIn(ctx, [][]byte{sum[:]}, s.directory.ScopeOf(s.directory.Readable(caller)...))
	if err != nil {
		return nil, err
	}
	gone := fault.New(fault.Conflict, "not-here", "the bytes of %s are not here any more", name).
		WithHint("Send the file itself.")
	size, ok := there[sum]
	if !ok {
		return nil, gone
	}
	stored, err := s.store.OpenBytes(ctx, sum, size)
	if err != nil {
		return nil, gone.WithCause(err)
	}
	defer stored.Close()
	staged, err := s.store.Staging(ctx, repository, stored, size, name)
	if err != nil {
		return nil, err
	}
	if staged.Digests().SHA256 != sum {
		staged.Discard()
		return nil, gone
	}
	return staged, nil
}
