package backups

import (
	"bufio"
	"bytes"
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"golang.org/x/crypto/argon2"

	"crelvo/internal/core/fault"
	"crelvo/internal/service/secret"
	"crelvo/internal/service/store"
	bytestore "crelvo/internal/store"
)

// Manifest says of what a backup consists. It is a document of the store that the backup is
// in; what it names by digests are files of that store, shared by all backups there.
type Manifest struct {
	Format   int       `json:"format"`
	Name     string    `json:"name"`
	House    string    `json:"house"` // which Crelvo's it is
	At       time.Time `json:"at"`    // as of which moment
	Program  string    `json:"program"`
	Schema   int64     `json:"schema"`
	Records  Part      `json:"records"` // a dump, compressed by Zstandard
	Listed   Part      `json:"listed"`  // the digests (32 bytes) and sizes (8) of all files, in the order of their digests
	Files    int64     `json:"files"`
	Bytes    int64     `json:"bytes"`
	Missing  []string  `json:"missing,omitempty"` // digests of files whose bytes could not be read
	Settings string    `json:"settings,omitempty"`
	Key      *Sealed   `json:"key,omitempty"`
	// Sum is the SHA-256 of all of it, with this left empty.
	Sum string `json:"sum"`
}

// Part is a file of the store.
type Part struct {
	SHA256 string `json:"sha256"`
	Size   int64  `json:"size"`
}

// Sealed is the key of a server, encrypted with a passphrase by way of argon2id (RFC 9106).
type Sealed struct {
	Salt   []byte `json:"salt"`
	Passes uint32 `json:"passes"`
	Memory uint32 `json:"memory"` // KiB
	Key    []byte `json:"key"`
}

const (
	format   = 1
	prefix   = "backup-"
	timeForm = "20060102t150405.000z"
)

func seal(key [32]byte, passphrase string) (*Sealed, error) {
	s := &Sealed{Salt: make([]byte, 16), Passes: 3, Memory: 64 << 10}
	rand.Read(s.Salt) // it never fails
	var err error
	s.Key, err = s.safe(passphrase).Seal(key[:], secret.Backup)
	return s, err
}

func (s *Sealed) safe(passphrase string) secret.Safe {
	return secret.New([32]byte(argon2.IDKey([]byte(passphrase), s.Salt, s.Passes, s.Memory, 1, 32)))
}

// Open gives the key that was sealed.
func (s *Sealed) Open(passphrase string) (key [32]byte, err error) {
	if s.Passes < 1 || s.Passes > 100 || s.Memory > 1<<20 || s.Memory < 8 {
		return key, fault.New(fault.Invalid, "bad-backup", "the backup says of its key what cannot be")
	}
	raw, err := s.safe(passphrase).Open(s.Key, secret.Backup)
	if err != nil || len(raw) != len(key) {
		return key, fault.New(fault.Invalid, "other-passphrase", "the passphrase is not the one of the backup")
	}
	return [32]byte(raw), nil
}

func (m Manifest) sum() string {
	m.Sum = ""
	raw, err := json.Marshal(m)
	if err != nil {
		return ""
	}
	sum := sha256.Sum256(raw)
	return hex.EncodeToString(sum[:])
}

// digest is that of a part.
func (p Part) digest() (sum [32]byte, err error) {
	raw, err := hex.DecodeString(p.SHA256)
	if err == nil && len(raw) != len(sum) || p.Size < 0 {
		err = errors.New("it is no digest")
	}
	if err != nil {
		return sum, fault.New(fault.Invalid, "bad-backup", "the backup names %q, which is no file", p.SHA256)
	}
	return [32]byte(raw), nil
}

// Target is a store that backups are in.
type Target struct {
	bytestore.Store
	Address string
}

// OpenTarget opens where backups are by its address: the path of a folder, or
// s3+https://HOST/BUCKET/PREFIX. local is a folder for parts on their way.
func OpenTarget(address, local string) (*Target, error) {
	_, opened, err := store.OpenAt(address, local)
	if err != nil {
		return nil, err
	}
	return &Target{Store: opened, Address: address}, nil
}

// Manifests lists the backups, the oldest first, and by their names those of which it cannot
// be told any more what they consist of: they stand in nobody's way.
func (t *Target) Manifests(ctx context.Context) (all []Manifest, lost []string, err error) {
	names, err := t.Documents(ctx)
	if err != nil {
		return nil, nil, t.fault(err)
	}
	for _, name := range names {
		if !strings.HasPrefix(name, prefix) {
			continue
		}
		m, err := t.manifest(ctx, name)
		if fault.Is(err, fault.Invalid) {
			lost = append(lost, name)
			continue
		}
		if err != nil {
			return nil, nil, err
		}
		all = append(all, m)
	}
	slices.SortFunc(all, func(a, b Manifest) int { return a.At.Compare(b.At) })
	return all, lost, nil
}

func (t *Target) manifest(ctx context.Context, name string) (m Manifest, err error) {
	raw, err := t.Document(ctx, name)
	if err != nil {
		return m, t.fault(err)
	}
	if err := json.Unmarshal(raw, &m); err != nil || m.Name != name || m.Sum != m.sum() {
		return m, fault.New(fault.Invalid, "bad-backup", "%s at %s is not what was written", name, t.Address).
			WithHint("Restore another one; crelvo backup list %s shows them.", t.Address)
	}
	if m.Format != format {
		return m, fault.New(fault.Invalid, "other-backup", "%s at %s was made by a program of another time", name, t.Address).
			WithHint("This one reads backups of the form %d, and that has the form %d.", format, m.Format)
	}
	return m, nil
}

// Manifest finds a backup by its name, or the last one as of a moment; name "" and a zero
// moment are the last one.
func (t *Target) Manifest(ctx context.Context, name string, asOf time.Time) (Manifest, error) {
	all, lost, err := t.Manifests(ctx)
	if err != nil {
		return Manifest{}, err
	}
	if slices.Contains(lost, name) {
		return t.manifest(ctx, name) // which says why not
	}
	for _, m := range slices.Backward(all) {
		if (name == "" || m.Name == name) && (asOf.IsZero() || !m.At.After(asOf)) {
			return m, nil
		}
	}
	return Manifest{}, fault.New(fault.NotFound, "no-such-backup", "there is no such backup at %s", t.Address).
		WithHint("crelvo backup list %s shows those that there are.", t.Address)
}

func (t *Target) fault(err error) error {
	if err == nil {
		return nil
	}
	return fault.New(fault.Unavailable, "backup-away", "%s cannot be used: %v", t.Address, err).WithCause(err)
}

// keep stores a part that r gives.
func (t *Target) keep(ctx context.Context, r io.Reader) (Part, error) {
	staged, err := t.Stage(ctx, r, -1)
	if err != nil {
		return Part{}, err
	}
	err = t.Keep(ctx, staged)
	return Part{SHA256: staged.Digests.Hex("sha256"), Size: staged.Digests.Size}, errors.Join(err, staged.Discard())
}

func (t *Target) open(ctx context.Context, p Part) (bytestore.Reader, error) {
	sum, err := p.digest()
	if err != nil {
		return nil, err
	}
	r, err := t.Open(ctx, sum, p.Size)
	return r, t.fault(err)
}

// write writes down of what a backup consists: from then on it is one.
func (t *Target) write(ctx context.Context, m Manifest) error {
	m.Sum = m.sum()
	raw, err := json.MarshalIndent(m, "", "  ")
	if err != nil {
		return err
	}
	return t.fault(t.SetDocument(ctx, m.Name, append(raw, '\n')))
}

// listing is the list of a backup's files, read in order. Of no backup it is at its end.
type listing struct {
	from   io.Closer
	r      *bufio.Reader
	sum    [32]byte
	size   int64
	there  bool // sum and size are the next file
	failed error
}

func (t *Target) listing(ctx context.Context, m *Manifest) (*listing, error) {
	if m == nil {
		return &listing{}, nil
	}
	r, err := t.open(ctx, m.Listed)
	if err != nil {
		return nil, err
	}
	l := &listing{from: r, r: bufio.NewReaderSize(r, 64<<10), there: true}
	l.next()
	return l, l.failed
}

func (l *listing) next() {
	var entry [40]byte
	if !l.there {
		return
	}
	if _, err := io.ReadFull(l.r, entry[:]); err != nil {
		if l.there = false; !errors.Is(err, io.EOF) {
			l.failed = fmt.Errorf("the list of files: %w", err)
		}
		return
	}
	l.sum, l.size = [32]byte(entry[:32]), int64(binary.BigEndian.Uint64(entry[32:]))
}

// to goes on to a digest, and tells whether it is there.
func (l *listing) to(sum []byte) bool {
	for l.there && bytes.Compare(l.sum[:], sum) < 0 {
		l.next()
	}
	return l.there && bytes.Equal(l.sum[:], sum)
}

func (l *listing) close() error {
	if l.from == nil {
		return nil
	}
	return errors.Join(l.failed, l.from.Close())
}

// each calls do once with every file of backups, in the order of their digests.
func (t *Target) each(ctx context.Context, all []Manifest, do func(sum [32]byte, size int64) error) (err error) {
	var lists []*listing
	defer func() {
		for _, l := range lists {
			err = errors.Join(err, l.close())
		}
	}()
	for i := range all {
		l, err := t.listing(ctx, &all[i])
		if err != nil {
			return err
		}
		lists = append(lists, l)
	}
	for {
		var first *listing
		for _, l := range lists {
			if l.failed != nil {
				return l.failed
			}
			if l.there && (first == nil || bytes.Compare(l.sum[:], first.sum[:]) < 0) {
				first = l
			}
		}
		if first == nil {
			return nil
		}
		sum, size := first.sum, first.size
		for _, l := range lists {
			if l.there && l.sum == sum {
				l.next()
			}
		}
		if err := do(sum, size); err != nil {
			return err
		}
	}
}

// Wrong is what of backups is not what it should be.
type Wrong struct {
	Backup string // whose part it is; "" for files
	SHA256 string
	What   string // missing, damaged or cut
}

// Verify reads backups through, or with quick only looks whether all of it is there, and
// calls told with what is wrong. With repair, what is damaged is dropped, and backups whose
// own parts are: the next backup copies files again that are missing.
func (t *Target) Verify(
	ctx context.Context, all []Manifest, quick, repair bool, told func(Wrong),
) (files, read int64, err error) {
	doubt := false
	look := func(sum [32]byte, size int64, backup string) (sound bool, err error) {
		if ctx.Err() != nil {
			return false, ctx.Err()
		}
		files++
		quick := quick && backup == "" // what lists others is read in any case
		err = t.look(ctx, sum, size, quick)
		if err == nil && !quick {
			read += size
		}
		if !errors.Is(err, bytestore.ErrMissing) && !errors.Is(err, bytestore.ErrDamaged) {
			return err == nil, t.fault(err)
		}
		told(Wrong{backup, hex.EncodeToString(sum[:]), store.What(err)})
		if repair && !doubt {
			doubt = true
			if err := t.SetDocument(ctx, lookAgain, []byte("some files are missing\n")); err != nil {
				return false, t.fault(err)
			}
		}
		if repair {
			err = t.fault(t.Drop(ctx, sum))
		} else {
			err = nil
		}
		return false, err
	}
	whole := all[:0:0]
	for _, m := range all {
		sound := true
		for _, p := range []Part{m.Records, m.Listed} {
			sum, err := p.digest()
			if err == nil {
				var is bool
				is, err = look(sum, p.Size, m.Name)
				sound = sound && is
			}
			if err != nil {
				return files, read, err
			}
		}
		if sound {
			whole = append(whole, m)
		} else if repair {
			if err := t.DropDocument(ctx, m.Name); err != nil {
				return files, read, t.fault(err)
			}
		}
	}
	return files, read, t.each(ctx, whole, func(sum [32]byte, size int64) error {
		_, err := look(sum, size, "")
		return err
	})
}

// lookAgain is a document that says that files may be missing which backups list.
const lookAgain = "look-again"

func (t *Target) look(ctx context.Context, sum [32]byte, size int64, quick bool) error {
	if !quick {
		return t.Store.Verify(ctx, sum, size, func(r io.Reader) io.Reader { return r })
	}
	r, err := t.Open(ctx, sum, size)
	if err != nil {
		return err
	}
	return r.Close()
}

// drop drops backups, and what only they consist of.
func (t *Target) drop(ctx context.Context, gone, stay []Manifest) error {
	for _, m := range gone { // first, so that nothing is offered that is not whole
		if err := t.DropDocument(ctx, m.Name); err != nil {
			return err
		}
	}
	kept := map[string]bool{}
	for _, m := range stay {
		kept[m.Records.SHA256], kept[m.Listed.SHA256] = true, true
	}
	var lists []*listing
	for i := range stay {
		l, err := t.listing(ctx, &stay[i])
		if err != nil {
			return err
		}
		defer l.close()
		lists = append(lists, l)
	}
	if err := t.each(ctx, gone, func(sum [32]byte, _ int64) error {
		for _, l := range lists {
			if l.to(sum[:]) {
				return nil
			}
			if l.failed != nil {
				return l.failed
			}
		}
		return t.Drop(ctx, sum)
	}); err != nil {
		return err
	}
	for _, m := range gone {
		for _, p := range []Part{m.Records, m.Listed} {
			sum, err := p.digest()
			if err == nil && !kept[p.SHA256] {
				err = t.Drop(ctx, sum)
			}
			if err != nil {
				return err
			}
		}
	}
	return nil
}
