// Package lazyregexp compiles expressions when they are used first. A program that starts to
// print its help does not pay for the expressions of all readers.
package lazyregexp

import (
	"regexp"
	"sync"
)

// New returns a function that compiles the expression once and returns it. The function
// panics if the expression is wrong.
func New(expression string) func() *regexp.Regexp {
	return sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(expression) })
}
