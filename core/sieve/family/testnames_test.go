package family

import (
	"slices"
	"strings"
	"testing"
)

// The problems of failed tests carry the names of the tests as their runners print them.
func TestFailedTestsHaveTheirNames(t *testing.T) {
	t.Parallel()
	for name, want := range map[string][]string{
		"pytest/long.log":             {"test_a", "test_c[1]", "TestK.test_f", "test_d"},
		"pytest/short.log":            {"test_a", "test_c[1]", "TestK.test_f", "test_d"},
		"runners/jest-terminal.log":   {"kiln › heats", "kiln › throws"},
		"runners/vitest-terminal.log": {"kiln > heats", "kiln > throws"},
		"runners/mocha-terminal.log":  {"kiln heats", "kiln throws"},
		"runners/rspec.log":           {"Kiln has a cone", "Kiln is fixed by now", "Kiln behaves like a vessel holds water"},
		"runners/minitest.log":        {"KilnTest#test_heat", "KilnTest#test_with blanks in: it", "Kiln#test_0001_heats up to 9, at a.rb:3"},
		"runners/test-unit.log":       {"test_a(TU)", "test: with blanks(TU)"},
		"runners/phpunit.log":         {"KilnTest::testHeat", `KilnTest::testCones with data set "named one"`, "KilnTest::testBroken"},
		"golden/nodetest.log":         {"heats", "throws", "coats"},
	} {
		var got []string
		for _, p := range sift(t, read(t, name)) {
			if p.Test != "" {
				got = append(got, p.Test)
			}
		}
		for _, test := range want {
			if !slices.Contains(got, test) {
				t.Errorf("%s: no %s among: %s", name, test, strings.Join(got, ", "))
			}
		}
	}
}
