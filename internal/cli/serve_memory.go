package cli

import (
	"context"
	"os"
	"path/filepath"
	"runtime"
	"runtime/debug"
	"runtime/metrics"
	"strconv"
	"strings"
	"time"
)

const (
	// mostMemory is what the service takes at most if nothing else is said, and
	// leastMemory what it needs in any case.
	mostMemory, leastMemory = 512 << 20, 128 << 20
	// collectAt lets the heap grow to two and a half times what is in use before garbage is
	// collected: what is in use is little, and requests make much that is short-lived. With
	// 400 small files cost a twentieth less processor time, and load 70 MiB more.
	collectAt = 150
	// leastInUse counts as in use, though nobody uses it: with the 20 MiB of a small service alone
	// the collector would run many times a second under load, a tenth of the processor time of
	// small files. It is never touched, and so takes no memory.
	leastInUse = 32 << 20
	// returnEvery is how often it is looked for memory to give back.
	returnEvery = 15 * time.Second
)

// machineMemory is what the machine has, or what its control group may take if that is
// less, in bytes; 0 if it is not known.
func machineMemory() int64 {
	total := int64(0)
	if raw, err := os.ReadFile("/proc/meminfo"); err == nil {
		for line := range strings.Lines(string(raw)) {
			if rest, ok := strings.CutPrefix(line, "MemTotal:"); ok {
				kib, _ := strconv.ParseInt(strings.Fields(rest)[0], 10, 64)
				total = kib << 10
			}
		}
	}
	// Of a group and of those that it is in (cgroups, version 2), the least counts.
	raw, err := os.ReadFile("/proc/self/cgroup")
	if err != nil {
		return total
	}
	_, group, _ := strings.Cut(strings.TrimSpace(string(raw)), "0::")
	for ; ; group = filepath.Dir(group) {
		limit, err := os.ReadFile(filepath.Join("/sys/fs/cgroup", group, "memory.max"))
		if err == nil {
			if bytes, err := strconv.ParseInt(strings.TrimSpace(string(limit)), 10, 64); err == nil && bytes < total {
				total = bytes
			}
		}
		if group == "/" || group == "." {
			return total
		}
	}
}

// defaultMemory is a quarter of what there is, within bounds.
func defaultMemory(there int64) int64 {
	if there == 0 {
		return mostMemory
	}
	return min(max(there/4, leastMemory), mostMemory)
}

// limitMemory has the service take about so many bytes: a quarter of them for what it
// remembers, which it gives back, and as much again and a half for its work. The rest is
// for what the collector does not see.
func limitMemory(memory int64) (remembered int64) {
	if os.Getenv("GOGC") == "" {
		debug.SetGCPercent(collectAt)
	}
	if os.Getenv("GOMEMLIMIT") == "" {
		debug.SetMemoryLimit(memory / 8 * 5)
	}
	return memory / 4
}

// returnMemory gives the system back what a burst of work has left, once it is over, until
// ctx ends. By itself the runtime would keep it for long. Besides, it holds what only counts as
// in use.
func returnMemory(ctx context.Context) {
	unused := make([]byte, leastInUse)
	defer runtime.KeepAlive(unused)
	const quiet, burst = 64 << 20, 256 << 20 // bytes that were allocated in between
	samples := []metrics.Sample{{Name: "/gc/heap/allocs:bytes"}}
	var before, returned uint64
	ticker := time.NewTicker(returnEvery)
	defer ticker.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-ticker.C:
		}
		metrics.Read(samples)
		allocated := samples[0].Value.Uint64()
		if allocated-before < quiet && allocated-returned > burst {
			debug.FreeOSMemory()
			returned = allocated
		}
		before = allocated
	}
}
