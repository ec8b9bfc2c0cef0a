package safety

import (
	"context"
	"crypto/rand"
	"errors"
	"slices"

	"crelvo/internal/core/access"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/safety"
	"crelvo/internal/record"
	"crelvo/internal/service/act"
)

// mostStatements is how many statements a document may have.
const mostStatements = 2000

// Stated is what became of the statements of a document.
type Stated struct {
	Made    []record.Waiver
	Already int // patterns that such a waiver stands for
	Passed  []PassedOver
}

// PassedOver is a statement of which no waiver was made, and why.
type PassedOver struct{ Advisory, Why string }

// ImportVEX makes waivers of what a document in the OpenVEX or CycloneDX format says is not affected.
func (s *Safety) ImportVEX(ctx context.Context, caller access.Caller, raw []byte) (done Stated, err error) {
	if err := s.directory.Allow(caller, access.Manage, act.Everything); err != nil {
		return done, err
	}
	all, err := safety.ParseVEX(raw)
	if err != nil {
		return done, act.Invalid("bad-vex", "%v", err).WithHint("Documents of OpenVEX and CycloneDX are read, as JSON.")
	}
	if len(all) > mostStatements {
		return done, act.Invalid("too-many", "it has more than %d statements", mostStatements)
	}
	standing, err := s.Waivers(ctx, false)
	if err != nil {
		return done, err
	}
	for _, one := range all {
		patterns, why := one.Accepts()
		if why != "" {
			done.Passed = append(done.Passed, PassedOver{one.Advisory, why})
			continue
		}
		reason := one.Text
		if reason == "" {
			reason = "it says " + string(one.Status)
		}
		for _, p := range patterns {
			if slices.ContainsFunc(standing, func(w record.Waiver) bool {
				return w.Advisory == one.Advisory && w.Pattern == p.String()
			}) {
				done.Already++
				continue
			}
			w, err := s.Waive(ctx, caller, NewWaiver{Advisory: one.Advisory, Pattern: p.String(), Reason: reason,
				Justification: one.Justification})
			if f := (*fault.Error)(nil); errors.As(err, &f) && f.Kind != fault.Internal {
				done.Passed = append(done.Passed, PassedOver{one.Advisory, f.Message})
				continue
			}
			if err != nil {
				return done, err
			}
			done.Made, standing = append(done.Made, w), append(standing, w)
		}
	}
	return done, nil
}

// ExportVEX writes the standing waivers as statements, as a document of CycloneDX, or of OpenVEX.
// Those for patterns are left out, since statements name packages.
func (s *Safety) ExportVEX(ctx context.Context, cyclone bool) ([]byte, error) {
	rows, err := s.Waivers(ctx, false)
	if err != nil {
		return nil, err
	}
	var all []safety.Statement
	for _, row := range rows {
		w, err := waiverOf(row)
		if err != nil {
			return nil, err
		}
		if one, ok := safety.StatementOf(w, row.Justification); ok {
			all = append(all, one)
		}
	}
	now := s.Now().UTC()
	if cyclone {
		return safety.CycloneVEX(all, now)
	}
	return safety.OpenVEX(all, "urn:crelvo:vex:"+rand.Text(), "Crelvo", now)
}
