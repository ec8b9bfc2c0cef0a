package budget

import (
	"context"
	"errors"
	"io"
	"strings"
	"testing"
)

func TestBudget(t *testing.T) {
	ctx, cancel := context.WithCancel(t.Context())
	ctx = With(ctx, Limits{Bytes: 10, Held: 5, Elements: 3})
	if With(ctx, Default) != ctx || Of(ctx) != Of(With(ctx, Default)) {
		t.Error("a budget within another is a new one")
	}
	b := Of(ctx)
	if raw, err := io.ReadAll(b.Reader(strings.NewReader("123456"))); err != nil || len(raw) != 6 {
		t.Errorf("%q, %v", raw, err)
	}
	var spent *Spent
	if raw, err := io.ReadAll(b.Reader(strings.NewReader("12345"))); !errors.As(err, &spent) {
		t.Errorf("eleven bytes of ten: %q, %v", raw, err)
	}
	if err := errors.Join(b.Elements(2), b.Elements(1), b.Hold(5)); err != nil {
		t.Error(err)
	}
	if err := b.Elements(1); !errors.As(err, &spent) || spent.Max != 3 {
		t.Errorf("four parts of three: %v", err)
	}
	if err := b.Hold(1); err == nil {
		t.Error("six bytes of five are held")
	}
	b.Release(6)
	if err := b.Hold(5); err != nil {
		t.Error(err)
	}
	if err := Of(Afresh(ctx, Limits{Bytes: 1})).Bytes(1); err != nil {
		t.Error(err)
	}
	cancel()
	if err := Of(Afresh(ctx, Default)).Elements(1); !errors.Is(err, context.Canceled) || b.Err() == nil {
		t.Errorf("after the end: %v", err)
	}
	var none *Budget
	none.Release(1)
	if err := errors.Join(none.Bytes(1), none.Elements(1), none.Hold(1), none.Err()); err != nil ||
		none.Reader(nil) != nil {
		t.Error(err)
	}
}
