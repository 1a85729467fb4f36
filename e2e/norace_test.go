//go:build !race

package e2e

const underRace = false
