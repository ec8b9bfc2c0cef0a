package client

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"strings"
	"sync"
	"sync/atomic"

	"golang.org/x/sync/errgroup"

	"crelvo/internal/api"
	"crelvo/internal/core/fileset"
	"crelvo/internal/core/purl"
)

// SendSet is what is to be published as a file set.
type SendSet struct {
	SetFolder
	FileSet
	Description string
	Labels      []string
	// Sign makes a detached signature over the manifest; nil for none.
	Sign  func(ctx context.Context, manifest []byte) ([]byte, error)
	Build string // as api.BuildHeader has it; "" for none
	// Told is told how far it is, and Say what else there is to say. Both may be nil.
	Told func(SetProgress)
	Say  func(format string, args ...any)
}

// SentSet is what came of it.
type SentSet struct {
	PURL       string `json:"purl"`
	Repository string `json:"repository"`
	Manifest   string `json:"manifest" doc:"its SHA-256"`
	Files      int    `json:"files"`
	Bytes      int64  `json:"bytes"`
	Sent       int64  `json:"sent" doc:"bytes of its files that went over the network"`
	Same       bool   `json:"same"`
}

// PublishSet publishes a folder: of its files, those chunks are sent that the server does not have. Where it is cut
// off, it goes on, and so does the next one within a day.
func (c *Client) PublishSet(ctx context.Context, w SendSet) (done SentSet, err error) {
	if w.Told == nil {
		w.Told = func(SetProgress) {}
	}
	if w.Say == nil {
		w.Say = func(string, ...any) {}
	}
	entries, total, err := w.entries()
	if err != nil {
		return done, err
	}
	if len(entries) == 0 {
		return done, fmt.Errorf("there are no files in %s", strings.Join(w.Paths, ", "))
	}
	sum, there, err := c.hasVersion(ctx, w.FileSet)
	if err != nil {
		return done, err
	}
	// What is there of a snapshot is another upload.
	s := &sendingSet{SendSet: w, c: c, total: total, nothing: there && !purl.IsSnapshot("generic", w.Version)}
	var lost *api.Problem
	for tries := 0; ; tries++ {
		err = again(ctx, w.Say, func() error {
			err := s.send(ctx, entries)
			if err != nil {
				s.seen.Clear() // some of it may not have arrived
			}
			return err
		})
		if err == nil {
			done, err = s.publish(ctx, entries, sum)
		}
		if !errors.As(err, &lost) || lost.Code != "chunks-lacking" || tries == 2 {
			break
		}
		s.seen.Clear() // what was there has gone meanwhile
	}
	done.Sent = s.sent.Load()
	return done, err
}

// sendingSet sends the chunks of a folder.
type sendingSet struct {
	SendSet
	c       *Client
	total   int64
	nothing bool     // it is only measured
	seen    sync.Map // chunks that were looked for, by their digests

	done, sent atomic.Int64
}

const (
	// setHolds is how many bytes of chunks each hand holds until it is known whether they are there, and setAsks how many
	// chunks one question is about.
	setHolds, setAsks = 8 << 20, 4096
	// setHands is how many read and send at the same time.
	setHands = 4
	// setPack is how many bytes of chunks go into one pack.
	setPack = 64 << 20
)

// send measures the files that were not measured before, and sends what the server lacks.
func (s *sendingSet) send(ctx context.Context, entries []localEntry) error {
	s.done.Store(0)
	next := atomic.Int64{}
	hands, ctx := errgroup.WithContext(ctx)
	for range setHands {
		hands.Go(func() error {
			h := &setHand{s: s, ctx: ctx}
			var err error
			if h.cutter, err = fileset.NewCutter(); err != nil {
				return err
			}
			for err == nil {
				i := int(next.Add(1)) - 1
				if i >= len(entries) {
					break
				}
				if entries[i].Kind == fileset.File {
					err = h.file(&entries[i])
				}
			}
			return h.end(err)
		})
	}
	return hands.Wait()
}

// setHand is one of those that read and send at the same time.
type setHand struct {
	s      *sendingSet
	ctx    context.Context
	cutter *fileset.Cutter
	held   []heldChunk
	bytes  []byte // of these chunks, one behind the other
	pack   *fileset.PipedPack
}

type heldChunk struct {
	fileset.Chunk
	at int // in the bytes that are held
}

// file measures a file, and sends what is lacking of it.
func (h *setHand) file(e *localEntry) error {
	file, err := os.Open(e.at)
	if err != nil {
		return err
	}
	defer file.Close()
	made, err := h.cutter.Measure(&watched{h.ctx, file}, func(c fileset.Chunk, content []byte) error {
		h.s.Told(SetProgress{Done: h.s.done.Add(int64(len(content))), Total: h.s.total, Moved: h.s.sent.Load()})
		if h.s.nothing {
			return nil
		}
		if _, seen := h.s.seen.LoadOrStore(c.Digest, true); seen {
			return nil
		}
		h.held = append(h.held, heldChunk{c, len(h.bytes)})
		if h.bytes = append(h.bytes, content...); len(h.bytes) < setHolds && len(h.held) < setAsks {
			return nil
		}
		return h.look()
	})
	if err != nil {
		return err
	}
	stat, err := file.Stat()
	if err != nil {
		return err
	}
	if stat.Size() != made.Size || !stat.ModTime().Equal(e.Modified) {
		return fmt.Errorf("%s changed while it was read; publish again when nobody writes to it", e.Path)
	}
	e.Size, e.Digest, e.Chunks = made.Size, made.Digest, made.Chunks
	return nil
}

// look asks which of the held chunks are lacking, and sends these.
func (h *setHand) look() error {
	if len(h.held) == 0 {
		return nil
	}
	digests := make([]fileset.Digest, len(h.held))
	for i := range h.held {
		digests[i] = h.held[i].Digest
	}
	lacking, err := h.s.c.lackingChunks(h.ctx, h.s.FileSet, digests)
	if err != nil {
		return err
	}
	for _, c := range h.held {
		if !lacking[c.Digest] {
			continue
		}
		if h.pack == nil {
			h.pack = h.begin()
		}
		if err := h.pack.Add(c.Chunk, h.bytes[c.at:c.at+int(c.Length)]); err != nil {
			return h.endPack(err)
		}
		h.s.sent.Add(int64(c.Length))
		if h.pack.Bytes >= setPack {
			if err := h.endPack(nil); err != nil {
				return err
			}
		}
	}
	h.held, h.bytes = h.held[:0], h.bytes[:0]
	return nil
}

func (h *setHand) begin() *fileset.PipedPack {
	at := h.s.path("packs?version=" + url.QueryEscape(h.s.Version))
	return fileset.PipePack(func(body io.Reader) error {
		return h.s.c.setQuestion(h.ctx, http.MethodPost, at, body, -1, nil)
	})
}

// endPack ends the pack that is being sent, if one is.
func (h *setHand) endPack(reason error) error {
	p := h.pack
	h.pack = nil
	if p == nil {
		return reason
	}
	return p.End(reason)
}

// end sends what is held, unless something went wrong.
func (h *setHand) end(reason error) error {
	if reason == nil {
		reason = h.look()
	}
	if reason != nil {
		if h.pack != nil {
			_ = h.endPack(reason) // the reason is known
		}
		return reason
	}
	if h.pack == nil {
		return nil
	}
	return h.endPack(nil)
}

// publish sends the manifest; sum is that of the version that is there already.
func (s *sendingSet) publish(ctx context.Context, entries []localEntry, sum string) (done SentSet, err error) {
	all := make([]fileset.Entry, len(entries))
	for i := range entries {
		all[i] = entries[i].Entry
	}
	manifest, err := fileset.Manifest(all, s.Description)
	if err != nil {
		return done, err
	}
	if is := sha256.Sum256(manifest); s.nothing && hex.EncodeToString(is[:]) != sum {
		return done, &api.Problem{Status: http.StatusConflict, Code: "published-already",
			Detail: fmt.Sprintf("%s %s is in %s already, with other content", s.Name, s.Version, s.Repository),
			Hint:   "Publish it under another version; crelvo fetch --check tells what differs."}
	}
	at := s.of("manifest.jsonl")
	if len(s.Labels) > 0 {
		at += "?" + url.Values{"label": s.Labels}.Encode()
	}
	r, err := s.c.request(ctx, http.MethodPut, at, bytes.NewReader(manifest))
	if err != nil {
		return done, err
	}
	r.Header.Set("Accept", "application/json")
	r.Header.Set("Content-Type", fileset.MediaType)
	if s.Sign != nil {
		signature, err := s.Sign(ctx, manifest)
		if err != nil {
			return done, err
		}
		r.Header.Set(fileset.SignatureHeader, base64.StdEncoding.EncodeToString(signature))
	}
	if s.Build != "" {
		r.Header.Set(api.BuildHeader, s.Build)
	}
	response, err := s.c.send(r)
	if err != nil {
		return done, err
	}
	defer response.Body.Close()
	err = json.NewDecoder(response.Body).Decode(&done)
	return done, err
}
