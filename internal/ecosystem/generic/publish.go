package generic

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/base64"
	"encoding/binary"
	"encoding/hex"
	"encoding/json"
	"errors"
	"io"
	"net/http"

	"golang.org/x/sync/errgroup"
	"golang.org/x/sync/semaphore"

	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/fileset"
	"crelvo/internal/ecosystem"
)

// taker is the part of the Desk that takes chunks.
func taker(c *ecosystem.Call) ecosystem.ChunkTaker { return c.Desk.(ecosystem.ChunkTaker) }

// MaxAsked is how many chunks one question may be about.
const MaxAsked = 20_000

// houseKey is the package in the house repository that takes a version; behind a chain its maturity decides.
func houseKey(c *ecosystem.Call, name, version string) (catalog.PackageKey, error) {
	r, err := c.Desk.Target(c.Caller, c.Repository, isSnapshot(version))
	if err != nil {
		return catalog.PackageKey{}, err
	}
	k, err := key(r, name, version)
	k.Sight = ""
	if err == nil {
		err = c.Desk.MayPublish(c.Caller, r, k)
	}
	return k, err
}

// lacking tells which of some chunks are not there.
func (g Generic) lacking(c *ecosystem.Call) error {
	k, err := houseKey(c, c.Param("name"), c.QueryParam("version"))
	if err != nil {
		return err
	}
	var asked struct {
		Chunks []string `json:"chunks"`
	}
	if err := json.NewDecoder(io.LimitReader(c.Request().Body, 80*MaxAsked)).Decode(&asked); err != nil {
		return fault.New(fault.Invalid, "bad-question", `a question is {"chunks": ["SHA-256 in hexadecimal", …]}: %v`, err)
	}
	if len(asked.Chunks) > MaxAsked {
		return fault.New(fault.TooLarge, "too-many-chunks", "one question may be about %d chunks", MaxAsked)
	}
	digests := make([]fileset.Digest, len(asked.Chunks))
	for i, text := range asked.Chunks {
		if n, err := hex.Decode(digests[i][:], []byte(text[:min(len(text), 64)])); err != nil || n != 32 || len(text) != 64 {
			return fault.New(fault.Invalid, "bad-digest", "%.80q is no SHA-256", text)
		}
	}
	there, err := taker(c).Packs(c.Caller, k).Chunks(c.Request().Context(), digests, nil)
	if err != nil {
		return err
	}
	answer := struct {
		Lacking []string `json:"lacking"`
	}{[]string{}}
	for i, d := range digests {
		if _, ok := there[d]; !ok {
			answer.Lacking = append(answer.Lacking, asked.Chunks[i])
		}
	}
	return c.JSON(http.StatusOK, answer)
}

// takePack takes a pack of chunks.
func (g Generic) takePack(c *ecosystem.Call) error {
	k, err := houseKey(c, c.Param("name"), c.QueryParam("version"))
	if err != nil {
		return err
	}
	pack, err := taker(c).Packs(c.Caller, k).TakePack(c.Request().Context(), c.Request().Body, c.Request().ContentLength)
	if err != nil {
		return err
	}
	return c.JSON(http.StatusCreated, map[string]any{"sha256": hex.EncodeToString(pack.Digest[:]), "size": pack.Size})
}

// published is the answer to a publication.
type published struct {
	PURL       string `json:"purl"`
	Repository string `json:"repository"`
	Manifest   string `json:"manifest"` // its SHA-256
	Files      int    `json:"files"`
	Bytes      int64  `json:"bytes"`
	Same       bool   `json:"same"` // it was there already
}

// takeManifest publishes the version that a manifest describes, whose chunks are there.
func (g Generic) takeManifest(c *ecosystem.Call) error {
	name, version := c.Param("name"), c.Param("version")
	k, err := houseKey(c, name, version)
	if err != nil {
		return err
	}
	staged, err := c.Desk.Stage(c.Request().Context(), c.Repository, c.Request().Body, c.Request().ContentLength,
		manifestFile)
	if err != nil {
		return err
	}
	defer staged.Discard()
	signature, err := g.signature(c)
	if err != nil {
		return err
	}
	if signature != nil {
		defer signature.Discard()
	}
	done, err := g.publish(c, k, version, staged, signature, c.QueryParams()["label"])
	if err != nil {
		return err
	}
	status := http.StatusCreated
	if done.Same {
		status = http.StatusOK
	}
	return c.JSON(status, done)
}

// signature is that which comes with a manifest; nil if none does.
func (g Generic) signature(c *ecosystem.Call) (ecosystem.Staged, error) {
	said := c.Request().Header.Get(fileset.SignatureHeader)
	if said == "" {
		return nil, nil
	}
	raw, err := base64.StdEncoding.DecodeString(said)
	if err != nil {
		return nil, fault.New(fault.Invalid, "bad-signature", "the header %s is not in Base64", fileset.SignatureHeader)
	}
	return c.Desk.Stage(c.Request().Context(), c.Repository, bytes.NewReader(raw), int64(len(raw)), signatureFile)
}

// publish publishes a version by its manifest; signature may be nil.
func (g Generic) publish(
	c *ecosystem.Call, k catalog.PackageKey, version string, manifest, signature ecosystem.Staged, labels []string,
) (done published, err error) {
	ctx := c.Request().Context()
	target, err := c.Desk.Target(c.Caller, c.Repository, isSnapshot(version))
	if err != nil {
		return done, err
	}
	is := manifest.Digests()
	done = published{PURL: place(k.Name, version, "").PURL(Name).String(), Repository: target.Name,
		Manifest: is.Hex("sha256")}
	if there, err := c.Desk.File(ctx, catalog.FileQuestion{Key: k, Version: version, Name: manifestFile}); err == nil &&
		there.Arriving == nil && there.Digests.SHA256 == is.SHA256 {
		done.Same = true // which packs it was laid out in may not be the same
	} else if err != nil && !errors.Is(err, ecosystem.ErrNoFile) {
		return done, err
	}
	release, err := holdManifest(ctx, manifest.Size())
	if err != nil {
		return done, err
	}
	defer release()
	a := newAssembling(k.Name, taker(c).Packs(c.Caller, k))
	if err := a.read(ctx, manifest); err != nil {
		return done, err
	}
	done.Files, done.Bytes = a.header.Files, a.header.Bytes
	if done.Same {
		if err := g.signedBefore(ctx, c, k, version, signature); err != nil {
			return done, err
		}
		return done, g.label(c, k, version, labels)
	}
	if err := a.gather(ctx, manifest); err != nil {
		return done, err
	}
	if err := a.lend(ctx, c, k); err != nil {
		return done, err
	}
	layout, err := a.builder.Build()
	if err != nil {
		return done, badManifest(err)
	}
	if err := a.check(ctx, c, k, layout); err != nil {
		return done, err
	}
	laid, err := c.Desk.Stage(ctx, c.Repository, bytes.NewReader(layout), int64(len(layout)), layoutFile)
	if err != nil {
		return done, err
	}
	defer laid.Discard()
	p := ecosystem.Publication{Labels: labels, Files: []ecosystem.StagedFile{
		{Place: place(k.Name, version, manifestFile), Staged: manifest},
		{Place: place(k.Name, version, layoutFile), Staged: laid}}}
	if signature != nil {
		p.Files = append(p.Files, ecosystem.StagedFile{Place: place(k.Name, version, signatureFile), Staged: signature})
	}
	for _, pack := range a.builder.Packs() {
		p.Parts = append(p.Parts, ecosystem.NamedPart{Sum: sumOf(pack), Size: pack.Size, Extension: packKind,
			MediaType: packType})
	}
	receipt, err := c.Desk.Publish(ctx, c.Caller, target, g, p)
	done.Same = receipt.Same
	return done, err
}

// manifests holds back whoever publishes while others need much memory for theirs, of which each takes some times its
// size.
var manifests = semaphore.NewWeighted(manifestsWeigh)

const manifestsWeigh, manifestWeight = 512 << 20, 4

// holdManifest waits until there is memory for a manifest of a size.
func holdManifest(ctx context.Context, size int64) (release func(), err error) {
	weight := min(manifestWeight*size+1<<20, manifestsWeigh)
	return func() { manifests.Release(weight) }, manifests.Acquire(ctx, weight)
}

// signedBefore says no if a version that is there without a signature comes again with one. Who signs again makes
// another signature, so that another one is no hindrance.
func (Generic) signedBefore(
	ctx context.Context, c *ecosystem.Call, k catalog.PackageKey, version string, signature ecosystem.Staged,
) error {
	if signature == nil {
		return nil
	}
	_, err := c.Desk.File(ctx, catalog.FileQuestion{Key: k, Version: version, Name: signatureFile})
	if !errors.Is(err, ecosystem.ErrNoFile) {
		return err
	}
	return fault.New(fault.Conflict, "signed-late", "%s %s is published already, without a signature", k.Name, version).
		WithHint("A signature comes with the version. A promotion signs, too: crelvo track edit TRACK --into STAGE --sign-with KEY.")
}

func (Generic) label(c *ecosystem.Call, k catalog.PackageKey, version string, labels []string) error {
	for _, label := range labels {
		if err := c.Desk.SetLabel(c.Request().Context(), c.Caller, k, label, version); err != nil {
			return err
		}
	}
	return nil
}

// packType is the media type of packs. Files that have one are parts of their package wherever they come to.
const packType = "application/vnd.crelvo.pack"

func sumOf(p fileset.Pack) catalog.Sum {
	return catalog.Sum{Algorithm: "sha256", Hex: hex.EncodeToString(p.Digest[:])}
}

// lend makes packs that are elsewhere, and of which the version has everything, parts of the package.
func (a *assembling) lend(ctx context.Context, c *ecosystem.Call, key catalog.PackageKey) error {
	for _, pack := range a.builder.Packs() {
		if !a.foreign[pack.Digest] {
			continue
		}
		lent, err := taker(c).LendPart(ctx, c.Caller, key, ecosystem.Lender{}, sumOf(pack))
		if err != nil {
			return err
		}
		if !lent {
			return fault.New(fault.Conflict, "chunks-lacking", "chunks of %s went away meanwhile", key.Name).
				WithHint("Publish again.")
		}
	}
	return nil
}

// assembly is a digest of which chunks a file consists of.
func assembly(chunks []fileset.Chunk) (sum fileset.Digest) {
	h := sha256.New()
	for _, c := range chunks {
		h.Write(binary.LittleEndian.AppendUint32(c.Digest[:], c.Length))
	}
	h.Sum(sum[:0])
	return sum
}

// atOnce is how many files are read at once to be checked.
const atOnce = 4

// check reads the files that consist of several chunks, and compares them with the digests that the manifest says,
// unless somebody had the same file before.
func (a *assembling) check(ctx context.Context, c *ecosystem.Call, key catalog.PackageKey, raw []byte) error {
	asked := make([]fileset.Assembly, len(a.joined))
	for i, e := range a.joined {
		asked[i] = fileset.Assembly{Digest: e.Digest, Chunks: e.Chunks[0].Digest}
	}
	known, err := taker(c).Assembled(ctx, asked)
	if err != nil {
		return err
	}
	layout, err := fileset.OpenLayout(bytes.NewReader(raw), int64(len(raw)))
	if err != nil {
		return err
	}
	// Packs are parts of the package by now, and of no version.
	s := &set{desk: c.Desk, q: catalog.FileQuestion{Key: key}, layout: layout}
	checking, ctx := errgroup.WithContext(ctx)
	checking.SetLimit(atOnce)
	for i, e := range a.joined {
		if known[asked[i]] {
			continue
		}
		known[asked[i]] = true // a file that is there twice is read once
		checking.Go(func() error {
			f, err := layout.Find(e.Path)
			if err != nil {
				return err
			}
			if err := checkFile(s.content(ctx, f), e); err != nil {
				return err
			}
			return taker(c).KnowAssembled(ctx, asked[i])
		})
	}
	return checking.Wait()
}

// checkFile reads a file, whose digest must be that of its entry.
func checkFile(content *content, e fileset.Entry) error {
	defer content.Close()
	sum := sha256.New()
	if _, err := io.CopyBuffer(struct{ io.Writer }{sum}, struct{ io.Reader }{content}, make([]byte, 256<<10)); err != nil {
		return err
	}
	if is := sum.Sum(nil); !bytes.Equal(is, e.Digest[:]) {
		return fault.New(fault.Invalid, "other-digest", "the chunks of %.200q make a file with the SHA-256 %x, and not %x",
			e.Path, is, e.Digest).WithHint("It may have changed while it was read; publish again.")
	}
	return nil
}

// maxWanted is how many stretches of chunks one request may ask for, and maxChunks how many chunks all together.
const maxWanted, maxChunks = 20_000, 100_000

// chunks answers with chunks of a version, by their numbers in the manifest, one after the other.
func (g Generic) chunks(c *ecosystem.Call) error {
	key, version, upload, err := named(c)
	if err != nil {
		return err
	}
	var asked struct {
		// Chunks are pairs of a number and how many from there on.
		Chunks [][2]int `json:"chunks"`
	}
	if err := json.NewDecoder(io.LimitReader(c.Request().Body, 32*maxWanted)).Decode(&asked); err != nil ||
		len(asked.Chunks) > maxWanted {
		return fault.New(fault.Invalid, "bad-question",
			`a question is {"chunks": [[NUMBER, COUNT], …]}, with at most %d pairs`, maxWanted)
	}
	ctx := c.Request().Context()
	s, err := open(ctx, c.Desk, key, version, upload)
	if errors.Is(err, ecosystem.ErrNoFile) {
		return noVersion(c, key, version)
	}
	if err != nil {
		return err
	}
	defer s.Close()
	length, count := int64(0), 0
	for _, pair := range asked.Chunks {
		if count += max(pair[1], 0); pair[1] < 0 || count > maxChunks {
			return fault.New(fault.Invalid, "bad-question", "one request may ask for %d chunks", maxChunks)
		}
		pieces, err := s.layout.PiecesAt(pair[0], pair[1])
		if err != nil {
			return fault.New(fault.Invalid, "bad-question", "%v", err)
		}
		for _, p := range pieces {
			length += int64(p.Length)
		}
	}
	return g.sendChunks(c, s, asked.Chunks, length)
}

func (g Generic) sendChunks(c *ecosystem.Call, s *set, pairs [][2]int, length int64) error {
	packs := s.packs(c.Request().Context())
	defer packs.Close()
	return c.SendStream("application/octet-stream", length, func(w io.Writer) error {
		for _, pair := range pairs {
			pieces, err := s.layout.PiecesAt(pair[0], pair[1])
			if err != nil {
				return err
			}
			for _, r := range runsOf(pieces) {
				if _, err := packs.send(w, r.pack, r.offset, r.length); err != nil {
					return err
				}
			}
		}
		return nil
	})
}
