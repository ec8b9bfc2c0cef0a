package cli

import "testing"

// TestDefaultMemory takes a quarter of what there is, within bounds.
func TestDefaultMemory(t *testing.T) {
	for there, want := range map[int64]int64{0: mostMemory, 64 << 30: mostMemory, 1 << 30: 256 << 20,
		100 << 20: leastMemory} {
		if got := defaultMemory(there); got != want {
			t.Errorf("of %d bytes it takes %d; want %d", there, got, want)
		}
	}
	if there := machineMemory(); there < 0 {
		t.Errorf("the machine has %d bytes", there)
	}
}
