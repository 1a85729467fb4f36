package family

import (
	"strings"

	"tidytally/core/sieve"
)

var packageFamily = sieve.Family{
	Name:  "package",
	Leads: oneOf("> "),
	New:   func() sieve.Scanner { return packageScanner{} },
}

// packageScanner reads the line with which npm, pnpm and yarn begin the script of a
// package: "> @emberclay/web@1.2.0 build". The paths that follow start in its folder.
// The line may end in that folder.
type packageScanner struct{}

func (packageScanner) Flush(*sieve.Reporter, bool) {}

func (packageScanner) Scan(l *sieve.Line, rep *sieve.Reporter) bool {
	words := strings.Fields(string(l.Text))
	if len(words) < 3 || len(words) > 4 || words[0] != ">" {
		return false
	}
	i := strings.LastIndexByte(words[1], '@')
	if i < 1 || i+1 == len(words[1]) || words[1][i+1] < '0' || words[1][i+1] > '9' {
		return false
	}
	if len(words) == 4 && !strings.HasPrefix(words[3], "/") {
		return false
	}
	rep.Finish()
	rep.EnterPackage(words[1][:i])
	return true
}
