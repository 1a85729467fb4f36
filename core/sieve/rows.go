package sieve

import (
	"bytes"

	"tidytally/core/sieve/lex"
)

// rows follows the rows of a terminal on which a package manager draws the tasks of
// several packages below each other, and goes back up to add lines to one of them:
//
//	packages/core build$ tsc -p .
//	│ src/index.ts(5,3): error TS2322: …
//	└─ Running...
//	packages/web build$ tsc -p .
//	└─ Running...
//
// A line behind a bar belongs to the task that stands above it, wherever the cursor
// came from.
type rows struct {
	at    int // the row of the cursor
	heads map[int]string
	down  int // the lowest row so far
}

// maxRows is the number of rows that are looked at upwards, and remembered: more than
// a terminal has.
const maxRows = 512

// line takes a drawn line. It returns the name of the task that the line belongs to,
// and where its text begins; name is nil if the line is no part of a drawing.
func (r *rows) line(t []byte) (name []byte, rest int, drawn bool) {
	if head, ok := taskHead(t); ok {
		if r.heads == nil {
			r.heads = map[int]string{}
		}
		if len(r.heads) >= maxRows {
			for row := range r.heads {
				if row < r.at-maxRows {
					delete(r.heads, row)
				}
			}
		}
		if len(r.heads) < 2*maxRows {
			r.heads[r.at] = string(head)
		}
		return nil, 0, true
	}
	if len(r.heads) == 0 {
		return nil, 0, false
	}
	delete(r.heads, r.at) // drawn over
	if lex.HasPrefix(t, "└─") {
		return nil, 0, true
	}
	behind, ok := lex.CutPrefix(t, "│")
	if !ok {
		return nil, 0, false
	}
	behind = bytes.TrimPrefix(behind, []byte(" "))
	for row := r.at; row > r.at-maxRows; row-- {
		if head, ok := r.heads[row]; ok {
			return []byte(head), len(t) - len(behind), true
		}
	}
	return nil, 0, false
}

// again reports whether the current row was drawn before, so that what it says may
// have been said.
func (r *rows) again() bool { return r.at < r.down }

// move follows the cursor.
func (r *rows) move(down int) {
	r.at += down
	r.down = max(r.down, r.at)
}

// taskHead reads "packages/core build$ tsc -p .": the folder of the package, the name
// of the task, the command.
func taskHead(t []byte) (folder []byte, ok bool) {
	i := bytes.Index(t[:min(len(t), 2*maxPrefix)], []byte("$ "))
	if i < 3 {
		return nil, false
	}
	folder, task, ok := bytes.Cut(t[:i], []byte(" "))
	if !ok || len(task) == 0 || bytes.IndexByte(task, ' ') >= 0 || !isName(folder, false) || !isName(task, false) {
		return nil, false
	}
	return folder, true
}
