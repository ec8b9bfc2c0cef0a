package generic

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"slices"
	"strings"
	"unicode/utf8"

	"crelvo/internal/core/fault"
	"crelvo/internal/core/fileset"
	"crelvo/internal/core/promotion"
	"crelvo/internal/core/text"
	"crelvo/internal/ecosystem"
)

const (
	// maxText is how large a file may be in which texts are replaced, and maxTexts how large all of them together, in
	// bytes.
	maxText, maxTexts = 4 << 20, 256 << 20
	// maxTold is how many changes, and how many obstacles, are told of a set; maxLine how much of a line.
	maxTold, maxLine = 500, 200
)

// findTexts finds the files in which texts are replaced, and those in which that cannot be done.
func (r *recasting) findTexts(ctx context.Context) (obstacles []ecosystem.Obstacle, err error) {
	r.texts = map[string]texts{}
	if r.Stamp.From == r.Stamp.To || len(r.Texts) == 0 {
		return nil, nil
	}
	looked, told := int64(0), 0
	err = r.set.layout.Below("", func(f fileset.Found) error {
		if f.Kind != fileset.File || len(r.fitting(f.Path)) == 0 {
			return ctx.Err()
		}
		why := ""
		was := ""
		if f.Size > maxText {
			why = "is too large for texts in it to be replaced; files of up to 4 MiB can be changed"
		} else if looked += f.Size; looked > maxTexts {
			return fault.New(fault.Conflict, "too-many-texts", "the files of %s in which texts are to be replaced have more "+
				"than 256 MiB together", r.Name).WithHint("Have the hop name fewer: crelvo track edit TRACK --into STAGE --restamp …")
		} else if was, err = r.text(ctx, f); err != nil {
			return err
		} else if !utf8.ValidString(was) || strings.ContainsRune(was, 0) {
			why = "is no text in UTF-8"
		}
		if why != "" {
			if len(obstacles) < maxTold {
				obstacles = append(obstacles, ecosystem.Obstacle{Entry: f.Path, Reason: why})
			}
			return nil
		}
		is := r.replaced(f.Path, was)
		if is == was {
			return nil
		}
		edits := editsOf(f.Path, was, is, maxTold-told)
		told += len(edits)
		r.texts[f.Path] = texts{size: int64(len(is)), edits: edits}
		r.grown += int64(len(is) - len(was))
		return nil
	})
	return obstacles, err
}

// fitting are the texts that are to be replaced in a file.
func (r *recasting) fitting(path string) []promotion.Text {
	return slices.DeleteFunc(slices.Clone(r.Texts), func(t promotion.Text) bool { return !t.Fits(path) })
}

// text reads a file.
func (r *recasting) text(ctx context.Context, f fileset.Found) (string, error) {
	content := r.set.content(ctx, f)
	defer content.Close()
	raw, err := io.ReadAll(io.LimitReader(content, maxText))
	return string(raw), err
}

// replaced is what becomes of the text of a file.
func (r *recasting) replaced(path, was string) string {
	for _, t := range r.fitting(path) {
		if t.Old != "" {
			was = strings.ReplaceAll(was, t.Old, t.New)
			continue
		}
		was = ecosystem.ToRestamp{Stamp: r.Stamp, All: r.All}.Swap(was, nil)
	}
	return was
}

// editsOf tells which lines differ, at most so many; as many lines are there after as before.
func editsOf(path, was, is string, most int) (edits []ecosystem.Edit) {
	old, now := strings.Split(was, "\n"), strings.Split(is, "\n")
	for i := 0; i < len(old) && len(edits) < most; i++ {
		if old[i] != now[i] {
			edits = append(edits, ecosystem.Edit{Entry: path, What: fmt.Sprintf("line %d", i+1),
				Old: text.Clean(strings.TrimSpace(old[i]), false, maxLine),
				New: text.Clean(strings.TrimSpace(now[i]), false, maxLine)})
		}
	}
	return edits
}

// rewriteManifest writes the manifest of the version with its changed files, whose chunks it puts into packs.
func (r *recasting) rewriteManifest(ctx context.Context) (ecosystem.Staged, error) {
	was, err := r.Desk.Open(ctx, r.manifest)
	if err != nil {
		return nil, err
	}
	defer was.Close()
	from, to := io.Pipe()
	done := make(chan struct{})
	go func() {
		defer close(done)
		to.CloseWithError(r.writeManifest(ctx, was, to))
	}()
	staged, err := r.Desk.Stage(ctx, manifestFile, from)
	from.CloseWithError(err)
	<-done
	return staged, err
}

func (r *recasting) writeManifest(ctx context.Context, was io.Reader, to io.Writer) error {
	w, err := newWriting(ctx, r.Desk)
	if err != nil {
		return err
	}
	var manifest *fileset.Writer
	err = fileset.Read(was, func(h fileset.Header) (err error) {
		h.Bytes += r.grown
		manifest, err = fileset.NewWriter(to, h)
		return err
	}, func(e fileset.Entry) error {
		if _, changes := r.texts[e.Path]; changes {
			if err := r.change(ctx, w, &e); err != nil {
				return err
			}
		}
		return manifest.Add(e)
	})
	if err := w.end(err); err != nil {
		return err
	}
	return manifest.Flush()
}

// change writes a file with its texts replaced, and makes its entry that of what it is then.
func (r *recasting) change(ctx context.Context, w *writing, e *fileset.Entry) error {
	f, err := r.set.layout.Find(e.Path)
	if err != nil {
		return err
	}
	was, err := r.text(ctx, f)
	if err != nil {
		return err
	}
	made, err := w.file(bytes.NewReader([]byte(r.replaced(e.Path, was))))
	e.Size, e.Digest, e.Chunks = made.Size, made.Digest, made.Chunks
	return err
}
