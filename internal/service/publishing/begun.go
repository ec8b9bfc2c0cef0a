package publishing

import (
	"context"
	"errors"
	"fmt"
	"io"
	"strings"
	"time"

	"crelvo/internal/core/access"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/service/store"
	bytestore "crelvo/internal/store"
)

const (
	// begunStays is how long what arrived of a file waits for the rest.
	begunStays = 24 * time.Hour
	// maxBegun is how many files one caller may have begun to send.
	maxBegun = 100
)

// Arriving is a file that its sender sent in pieces, as the sender knows it.
type Arriving struct {
	Name   string
	Size   int64
	CRC32C uint32 // of its bytes (RFC 3720 section 12.1)
}

// begunName names a file that a caller sends in pieces: nobody else goes on with it, or
// learns of it.
func begunName(caller access.Caller, name string) string {
	return fmt.Sprintf("%d-%s", caller.ID, name)
}

// checkArriving refuses what a file that is sent in pieces cannot be called.
func checkArriving(name string) error {
	if len(name) == 0 || len(name) > 64 || strings.Trim(name, "0123456789abcdefghijklmnopqrstuvwxyz-") != "" {
		return fault.New(fault.Invalid, "bad-name", "%.70q cannot be the name of a file that is sent in pieces", name).
			WithHint("Its sender chooses it: up to 64 small letters, digits and dashes.")
	}
	return nil
}

// arrived tells how much of files the caller has sent already, by their begun names.
func (s *Publishing) arrived(ctx context.Context, caller access.Caller) (map[string]int64, error) {
	all, err := s.store.AllBegun(ctx, fmt.Sprintf("%d-", caller.ID))
	sizes := map[string]int64{}
	for _, b := range all {
		if !strings.HasPrefix(b.Name, begunName(caller, "part-")) { // which are counted by themselves
			sizes[b.Name] = b.Size
		}
	}
	return sizes, err
}

// Continue takes more of a file that is to be published to a repository, from an offset
// on, and tells how much of it is there then; what arrives before the sender leaves
// stays for a day. Its sender names it.
func (s *Publishing) Continue(
	ctx context.Context, caller access.Caller, repositoryName, called string, at int64, body io.Reader,
) (int64, error) {
	repository, err := s.directory.Repository(caller, repositoryName, access.Publish)
	if err != nil {
		return 0, err
	}
	if caller.Anonymous() {
		return 0, fault.New(fault.Denied, "sign-in-needed", "only somebody who is signed in can send a file in pieces")
	}
	if err := checkArriving(called); err != nil {
		return 0, err
	}
	there, err := s.arrived(ctx, caller)
	if err != nil {
		return 0, err
	}
	name := begunName(caller, called)
	if _, known := there[name]; !known && len(there) >= maxBegun {
		return 0, tooManyBegun(caller, len(there))
	}
	return s.continued(ctx, caller, repository, name, at, body)
}

func tooManyBegun(caller access.Caller, n int) error {
	return fault.New(fault.TooMany, "too-many-files", "%s has begun to send %d files already", caller.Name, n).
		WithHint("Publish them, or wait a day: unfinished files are dropped then.")
}

// continued takes more of what is begun under a name.
func (s *Publishing) continued(
	ctx context.Context, caller access.Caller, repository catalog.Repository, name string, at int64, body io.Reader,
) (int64, error) {
	most := s.LargestFile(repository)
	left := &atMost{from: body, left: most - at}
	size, err := s.store.Continue(ctx, repository, name, at, left)
	if size > most {
		return 0, errors.Join(s.fits(repository, "the file", size), s.store.DropBegun(context.WithoutCancel(ctx), name))
	}
	var told *fault.Error
	switch {
	case errors.Is(err, bytestore.ErrOffset):
		return size, fault.New(fault.Conflict, "other-offset", "%d bytes of it are here, and not %d", size, at).
			WithHint("Go on from there.")
	case errors.Is(err, bytestore.ErrBusy):
		return 0, fault.New(fault.Conflict, "being-sent",
			"the same file is being sent, or published, by another request of %s", caller.Name).
			WithHint("Wait until that has ended.")
	case errors.Is(err, bytestore.ErrCut) && errors.As(err, &told):
		return size, told
	case errors.Is(err, bytestore.ErrCut):
		return size, fault.New(fault.Invalid, "cut-upload", "the rest did not arrive").
			WithHint("%d bytes are here; go on from there.", size).WithCause(err)
	case err != nil:
		return size, s.store.Fault(err)
	}
	return size, nil
}

// arrivedWhole gives a file that the caller sent in pieces, for a publication that names
// it in place of sending it.
func (s *Publishing) arrivedWhole(
	ctx context.Context, caller access.Caller, repository catalog.Repository, name string, of Arriving,
) (*store.Staging, error) {
	gone := fault.New(fault.Conflict, "not-here", "nothing of %s has arrived, or not lately", name).
		WithHint("Send the file itself.")
	if caller.Anonymous() {
		return nil, gone
	}
	if err := checkArriving(of.Name); err != nil {
		return nil, err
	}
	begun := begunName(caller, of.Name)
	st, err := s.store.StagingBegun(ctx, repository, begun)
	switch {
	case errors.Is(err, bytestore.ErrMissing):
		return nil, gone
	case errors.Is(err, bytestore.ErrBusy):
		return nil, fault.New(fault.Conflict, "being-sent", "%s is being sent by another request", name).
			WithHint("Wait until that has ended.")
	case err != nil:
		return nil, s.store.Fault(err)
	}
	if st.Size() == of.Size && st.File.CRC32C == of.CRC32C {
		return st, nil
	}
	st.Discard()
	if st.Size() < of.Size {
		return nil, fault.New(fault.Conflict, "not-here", "%d of the %d bytes of %s have arrived", st.Size(),
			of.Size, name).WithHint("Send the rest first.")
	}
	// Nothing that is added to it can make it right.
	if err := s.store.DropBegun(ctx, begun); err != nil {
		return nil, err
	}
	return nil, fault.New(fault.Invalid, "damaged-upload",
		"what arrived of %s, %d bytes, is not what was sent, and was dropped", name, st.Size()).
		WithHint("Send it again.")
}

// dropBegun drops what nobody went on with.
func (s *Publishing) dropBegun(ctx context.Context) error {
	all, err := s.store.AllBegun(ctx, "")
	for _, b := range all {
		if err == nil && s.Now().Sub(b.Since) > begunStays {
			err = s.store.DropBegun(ctx, b.Name)
		}
	}
	return err
}
