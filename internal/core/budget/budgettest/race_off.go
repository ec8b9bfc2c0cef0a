//go:build !race

package budgettest

const raced = false
