// Package lazyregexp compiles expressions when they are used first. A program that starts to
// print its help does not pay for the expressions of all readers.
package lazyregexp

import (
	"regexp"
	"sync"
)

// New returns what gives the expression. Like regexp.MustCompile, that panics if the
// expression is wrong.
func New(expression string) func() *regexp.Regexp {
	return sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(expression) })
}
