package ink

import (
	"slices"
	"strings"
	"unicode/utf8"

	"github.com/charmbracelet/x/ansi"
)

// Distinct cuts names to a number of cells so that names that differ are still told apart: where
// some would read alike, it is what they have in common that is left out.
func Distinct(names []string, columns int) []string {
	out := make([]string, len(names))
	var long []int
	for i, name := range names {
		if out[i] = name; ansi.StringWidth(name) > columns {
			long = append(long, i)
		}
	}
	tellApart(names, out, long, columns, 0, "")
	return out
}

const (
	// wholeEdge is the number of bytes up to which what some names have in common is not
	// shortened, and edgeStart how much of it is kept else.
	wholeEdge = 4
	edgeStart = 3
)

// tellApart cuts names that have their first bytes in common, of which shown is what is left.
func tellApart(names, out []string, of []int, columns, bytes int, shown string) {
	seen := map[string]string{}
	distinct := true
	for _, i := range of {
		out[i] = ansi.Truncate(shown+names[i][bytes:], columns, "…")
		if other, taken := seen[out[i]]; taken && other != names[i] {
			distinct = false
		}
		seen[out[i]] = names[i]
	}
	if distinct || ansi.StringWidth(shown) >= columns-1 {
		return
	}
	common := names[of[0]]
	for _, i := range of[1:] {
		common = commonPrefix(common, names[i])
	}
	edge := common[bytes:]
	switch keep := columns / 3; {
	case bytes == 0 && ansi.StringWidth(edge) > keep:
		edge = ansi.Truncate(edge, keep, "") + "…"
	case bytes > 0 && len(edge) > wholeEdge:
		edge = ansi.Truncate(edge, edgeStart, "") + "…"
	}
	byNext := map[rune][]int{}
	var order []rune
	for _, i := range of {
		next, _ := utf8.DecodeRuneInString(names[i][len(common):])
		if byNext[next] == nil {
			order = append(order, next)
		}
		byNext[next] = append(byNext[next], i)
	}
	slices.Sort(order)
	for _, next := range order {
		tellApart(names, out, byNext[next], columns, len(common), shown+edge)
	}
}

// commonPrefix returns the whole characters with which both texts begin.
func commonPrefix(a, b string) string {
	n := 0
	for i, r := range a {
		if !strings.HasPrefix(b[i:], string(r)) {
			break
		}
		n = i + utf8.RuneLen(r)
	}
	return a[:n]
}
