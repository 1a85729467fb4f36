package sieve

import (
	"slices"
	"sync"

	"tidytally/core/problem"
)

// A Set is what engines look for. It is safe for concurrent use.
type Set struct {
	families  []Family
	documents []Document
	// look is the first look for all families, which most engines share.
	look func() *firstLook
}

// NewSet makes a set. The order counts: of two families that could take a line,
// or two forms of documents that fit, the first gets it. It panics if there are
// more families than maxFamilies.
func NewSet(families []Family, documents []Document) *Set {
	if len(families) > maxFamilies {
		panic("sieve: more families than bits in line.wants")
	}
	return &Set{families, documents, sync.OnceValue(func() *firstLook { return newFirstLook(families, false) })}
}

// Families returns the names of the families, in order of precedence.
func (s *Set) Families() []string {
	names := make([]string, len(s.families))
	for i, f := range s.families {
		names[i] = f.Name
	}
	return names
}

// Columns returns how the tools of a family count columns. Problems that came
// as JSON or SARIF count characters, unless the family of the tool is known.
func (s *Set) Columns(name string) problem.Columns {
	for _, f := range s.families {
		if f.Name == name {
			return f.Columns
		}
	}
	return problem.Characters
}

// choose returns the families of one engine: those named in only (all if nil),
// and the user's own behind them. Built-in families come first: a family's index
// is its bit in line.wants. The user's own have no bit; they are offered all
// lines, before the others.
func (s *Set) choose(own []Rules, only []string) (chosen []Family, builtIn int) {
	for _, f := range s.families {
		if only == nil || slices.Contains(only, f.Name) {
			chosen = append(chosen, f)
		}
	}
	builtIn = len(chosen)
	for i := range own {
		chosen = append(chosen, Family{Name: own[i].Name, New: func() Scanner { return &ownScanner{rules: &own[i]} }})
	}
	return chosen, builtIn
}
