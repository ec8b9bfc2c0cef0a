package rights

import (
	"context"
	"net/netip"
	"time"

	"crelvo/internal/core/fault"
	"crelvo/internal/record"
)

// brake slows down who tries passwords: after some failures in a row each
// further one makes an account at a place, or the place, wait twice as long. What
// others do elsewhere slows nobody down, so nobody can be kept out by it. It is on record,
// for all nodes together. The waits are bounded.
type brake struct {
	// within runs do with what is known of keys, which nobody else changes meanwhile, and
	// keeps what it gives.
	within func(ctx context.Context, keys []string, do func(known map[string]record.Failures) []record.Failures) error
}

// placeOf is where somebody is: an address, or with the longer ones the network
// that one household has.
func placeOf(address string) string {
	a, err := netip.ParseAddr(address)
	if err != nil || a.Unmap().Is4() {
		return address
	}
	network, err := a.Prefix(64)
	if err != nil {
		return address
	}
	return network.String()
}

const (
	freeAccount, longestAccount = 5, 30 * time.Second
	freePlace, longestPlace     = 30, 2 * time.Minute
	// forgiveAfter is when failures are forgotten.
	forgiveAfter = 15 * time.Minute
)

// onRecord is a brake whose failures are on record.
func onRecord(db *record.DB) *brake {
	return &brake{within: func(
		ctx context.Context, keys []string, do func(known map[string]record.Failures) []record.Failures,
	) error {
		return db.Within(ctx, func(tx *record.Tx) error {
			known, err := tx.SignInFailures(ctx, keys...)
			if err != nil {
				return err
			}
			for _, f := range do(known) {
				if err := tx.SetSignInFailures(ctx, f); err != nil {
					return err
				}
			}
			return nil
		})
	}}
}

// wait is how long is to be waited after so many failures, the last one then.
func wait(f record.Failures, now time.Time, free int, longest time.Duration) time.Duration {
	if f.Times < free {
		return 0
	}
	pause := longest
	if over := f.Times - free; over < 10 {
		pause = min(time.Second<<over, longest)
	}
	return max(0, f.Last.Add(pause).Sub(now))
}

// keysOf are those of an account at a place, and of the place: in an order that is the same
// for all.
func keysOf(account, place string) []string {
	const longest = 200 // of a name that was made up
	if len(account) > longest {
		account = account[:longest]
	}
	return []string{"account " + account + " " + placeOf(place), "place " + placeOf(place)}
}

// try counts an attempt as a failure, until succeeded says otherwise, so that
// attempts at the same time count as well; or it refuses it.
func (b *brake) try(ctx context.Context, account, place string, now time.Time) error {
	keys, pause := keysOf(account, place), time.Duration(0)
	err := b.within(ctx, keys, func(known map[string]record.Failures) (changed []record.Failures) {
		of := func(key string) record.Failures {
			f := known[key]
			if now.Sub(f.Last) > forgiveAfter {
				f = record.Failures{}
			}
			f.Key = key
			return f
		}
		a, p := of(keys[0]), of(keys[1])
		pause = wait(a, now, freeAccount, longestAccount)
		if place != "" {
			pause = max(pause, wait(p, now, freePlace, longestPlace))
		}
		if pause > 0 {
			return nil
		}
		return []record.Failures{{Key: a.Key, Times: a.Times + 1, Last: now}, {Key: p.Key, Times: p.Times + 1, Last: now}}
	})
	if err != nil || pause == 0 {
		return err
	}
	pause = pause.Truncate(time.Second) + time.Second
	f := fault.New(fault.TooMany, "slow-down", "too many wrong passwords; try again in %s", pause).
		WithHint("Tokens are not slowed down.")
	f.After = pause
	return f
}

// succeeded takes back what try counted.
func (b *brake) succeeded(ctx context.Context, account, place string) error {
	keys := keysOf(account, place)
	return b.within(ctx, keys, func(known map[string]record.Failures) []record.Failures {
		p := known[keys[1]]
		return []record.Failures{{Key: keys[0]}, {Key: keys[1], Times: p.Times - 1, Last: p.Last}}
	})
}
