//go:build race

package e2e

const underRace = true // the program is built with the race detector, as the tests are
