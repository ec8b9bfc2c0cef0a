//go:build race

package budgettest

const raced = true
