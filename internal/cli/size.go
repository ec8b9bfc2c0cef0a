package cli

import (
	"fmt"

	"github.com/spf13/cobra"

	"crelvo/internal/api"
	"crelvo/internal/core/query"
)

// byteSize is a flag for a number of bytes, with or without a unit.
type byteSize int64

// String implements pflag.Value.
func (b *byteSize) String() string { return api.Bytes(int64(*b)) }

// Type implements pflag.Value.
func (b *byteSize) Type() string { return "SIZE" }

// Set implements pflag.Value.
func (b *byteSize) Set(text string) error {
	n, ok := query.ParseBytes(text)
	if !ok || n < 0 {
		return fmt.Errorf("%q is no size; write it as 500MiB or 2GiB", text)
	}
	*b = byteSize(n)
	return nil
}

// ifGiven is where the value of a flag is, if that was given; else nil.
func ifGiven[T any](cmd *cobra.Command, flag string, value *T) *T {
	if cmd.Flags().Changed(flag) {
		return value
	}
	return nil
}
