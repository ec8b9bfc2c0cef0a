package rights

import (
	"bytes"
	"context"
	"encoding/hex"
	"errors"

	"crelvo/internal/core/access"
	"crelvo/internal/record"
	"crelvo/internal/service/act"
)

// Events gives the activity record line by line, the newest first unless the
// filter says otherwise. An admin sees all of it; others what they did
// themselves.
func (s *Rights) Events(
	ctx context.Context, caller access.Caller, f record.EventFilter, do func(record.SealedEvent) error,
) error {
	if err := s.directory.Allow(caller, access.SignedIn, act.Everything); err != nil {
		return err
	}
	if err := s.directory.Allow(caller, access.Manage, act.Everything); err != nil {
		if f.Who != "" && f.Who != caller.Name {
			return err
		}
		f.Who = caller.Name
	}
	return s.DB.EachEvent(record.Patiently(ctx), f, do)
}

// EventActions lists the kinds of event that there are.
func (s *Rights) EventActions(ctx context.Context, caller access.Caller) ([]string, error) {
	if err := s.directory.Allow(caller, access.Manage, act.Everything); err != nil {
		return nil, err
	}
	return s.DB.EventActions(ctx)
}

// Verified is what came of looking at the whole activity record.
type Verified struct {
	Events int64
	// Last is the number and Hash the seal of the last event: whoever notes both
	// can tell later that nothing up to there was taken away.
	Last int64
	Hash string
	// Broken is the number of the first event that is not as it was written; Why
	// says what is wrong. 0 if there is none.
	Broken int64
	Why    string
}

var errBroken = errors.New("broken")

// VerifyEvents computes the chain of all events again. With a number and a seal
// that were noted before, it also tells whether that event still has it.
func (s *Rights) VerifyEvents(
	ctx context.Context, caller access.Caller, noted int64, seal string,
) (v Verified, err error) {
	if err := s.directory.Allow(caller, access.Manage, act.Everything); err != nil {
		return v, err
	}
	var previous []byte
	met := noted == 0
	err = s.DB.EachEvent(record.Patiently(ctx), record.EventFilter{OldestFirst: true}, func(e record.SealedEvent) error {
		computed, err := record.Seal(previous, e.Event)
		if err != nil {
			return err
		}
		switch {
		case e.ID != v.Last+1:
			v.Why = "events before it are missing"
		case !bytes.Equal(e.Previous, previous):
			v.Why = "it does not follow the one before it"
		case !bytes.Equal(e.Hash, computed):
			v.Why = "its content is not what was written"
		case e.ID == noted && hex.EncodeToString(e.Hash) != seal:
			v.Why = "it has another seal than the one that was noted"
		}
		if v.Why != "" {
			v.Broken = e.ID
			return errBroken
		}
		met = met || e.ID == noted
		v.Events, v.Last, previous = v.Events+1, e.ID, e.Hash
		v.Hash = hex.EncodeToString(e.Hash)
		return nil
	})
	if errors.Is(err, errBroken) {
		err = nil
	} else if err == nil && !met {
		v.Broken, v.Why = noted, "it is not there any more"
	}
	return v, err
}
