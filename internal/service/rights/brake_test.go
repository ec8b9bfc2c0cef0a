package rights

import (
	"context"
	"fmt"
	"testing"
	"time"

	"crelvo/internal/core/fault"
	"crelvo/internal/record"
)

// TestBrake: wrong passwords are slowed down ever more, within bounds, and what
// is right ends that.
func TestBrake(t *testing.T) {
	ctx, on := t.Context(), map[string]record.Failures{}
	b := &brake{within: func(
		_ context.Context, _ []string, do func(known map[string]record.Failures) []record.Failures,
	) error {
		for _, f := range do(on) {
			on[f.Key] = f
		}
		return nil
	}}
	now := time.Date(2026, 11, 1, 8, 0, 0, 0, time.UTC)
	for i := range freeAccount {
		if err := b.try(ctx, "purser", "10.0.0.1", now); err != nil {
			t.Fatalf("attempt %d: %v", i+1, err)
		}
	}
	for _, want := range []time.Duration{time.Second, 2 * time.Second, 4 * time.Second, 8 * time.Second, 16 * time.Second,
		longestAccount, longestAccount} {
		err := b.try(ctx, "purser", "10.0.0.1", now)
		if f := fault.Of(err); f.Kind != fault.TooMany || f.After < want || f.After > want+time.Second {
			t.Errorf("%v, after %s; want about %s", err, f.After, want)
		}
		now = now.Add(want)
		if err := b.try(ctx, "purser", "10.0.0.1", now); err != nil {
			t.Errorf("after %s: %v", want, err)
		}
	}
	// Whatever happens elsewhere, and however often, keeps nobody out.
	for range 60 {
		if err := b.try(ctx, "purser", "10.0.0.7", now); err != nil {
			t.Fatalf("from elsewhere: %v", err)
		}
		if err := b.succeeded(ctx, "purser", "10.0.0.7"); err != nil {
			t.Error(err)
		}
	}
	for i := range 2 * freeAccount {
		err := b.try(ctx, "purser", fmt.Sprintf("2001:db8::%d", i), now)
		if (err != nil) != (i >= freeAccount) {
			t.Errorf("attempt %d from one network: %v", i+1, err)
		}
	}
	if err := b.try(ctx, "deckhand", "10.0.0.3", now); err != nil {
		t.Errorf("somebody else: %v", err)
	}
	if err := b.succeeded(ctx, "purser", "10.0.0.1"); err != nil {
		t.Error(err)
	}
	if err := b.try(ctx, "purser", "10.0.0.1", now); err != nil {
		t.Errorf("after the right one: %v", err)
	}
	// Many names from one address wait together, wherever the names come from.
	var slowed error
	for i := range freePlace + 1 {
		slowed = b.try(ctx, fmt.Sprint("guess-", i), "10.0.0.9", now)
	}
	if !fault.Is(slowed, fault.TooMany) {
		t.Errorf("%d names from one address: %v", freePlace+1, slowed)
	}
	if err := b.try(ctx, "guess-1", "10.0.0.9", now.Add(forgiveAfter+time.Second)); err != nil {
		t.Errorf("much later: %v", err)
	}
}
