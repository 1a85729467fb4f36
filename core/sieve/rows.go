package sieve

import (
	"bytes"
	"maps"
	"slices"
	"strings"

	"tidytally/core/sieve/lex"
)

// rows are those of a terminal on which a package manager draws the tasks of several
// packages below each other, and goes back up to add lines to one of them:
//
//	packages/core build$ tsc -p .
//	│ src/index.ts(5,3): error TS2322: …
//	└─ Running...
//	packages/web build$ tsc -p .
//	└─ Running...
//
// A part shows the last lines of its task, and is drawn anew when one is added. When
// the cursor is back below the drawing, the lines that are new in a part are those
// that the task printed. No other output is drawn row by row.
type rows struct {
	at     int // the row of the cursor
	bottom int // the lowest row so far
	// shown are the lines of the drawing, by row; dirty says that some changed.
	shown map[int]string
	dirty bool
	// parts are the lines that were behind the bars of a part, by its head.
	parts map[string][]string
}

// maxRows is the number of rows that are remembered: more than a terminal has.
const maxRows = 512

// line takes a line at the row of the cursor. It reports whether the line is a part of
// a drawing.
func (r *rows) line(t []byte) bool {
	_, head := taskHead(t)
	if !head && len(r.shown) == 0 {
		return false
	}
	bar := lex.HasPrefix(t, "│") || lex.HasPrefix(t, "└─") || bytes.HasSuffix(t, []byte(" lines collapsed]"))
	if !head && !bar {
		if t[0] != ' ' && !lex.IsDigit(t[0]) { // else a part of the row was drawn over
			delete(r.shown, r.at)
		}
		return false
	}
	if r.shown == nil {
		r.shown, r.parts = map[int]string{}, map[string][]string{}
	}
	if len(r.shown) >= maxRows {
		maps.DeleteFunc(r.shown, func(row int, _ string) bool { return row < r.at-maxRows/2 })
	}
	if len(r.shown) < 2*maxRows {
		r.shown[r.at] = string(t)
		r.dirty = true
	}
	return true
}

// move follows the cursor.
func (r *rows) move(down int) {
	r.at += down
	r.bottom = max(r.bottom, r.at)
}

// settled calls each with the lines that are new in the drawing, and the folder that
// their task runs in, once the cursor is at its last row: that one often stays.
func (r *rows) settled(each func(folder, line string)) {
	if !r.dirty || r.at < r.bottom-1 {
		return
	}
	r.dirty = false
	for _, row := range slices.Sorted(maps.Keys(r.shown)) {
		head := r.shown[row]
		folder, ok := taskHead([]byte(head))
		if !ok {
			continue
		}
		var now []string
		for at := row + 1; ; at++ {
			text, bar := strings.CutPrefix(r.shown[at], "│")
			if bar {
				// What was cut to the width of the terminal ends in a mark.
				now = append(now, strings.TrimSuffix(strings.TrimPrefix(text, " "), "…"))
			} else if at > row+1 || !strings.HasSuffix(text, " lines collapsed]") {
				break
			}
		}
		before := r.parts[head]
		// The part scrolled by as many lines as make the rest of it the start of what
		// it shows now.
		scrolled := 0
		for scrolled < len(before) && !startsWith(now, before[scrolled:]) {
			scrolled++
		}
		for _, line := range now[len(before)-scrolled:] {
			each(string(folder), line)
		}
		if len(now) > 0 && len(r.parts) < maxRows {
			r.parts[head] = now
		}
	}
}

func startsWith(lines, start []string) bool {
	return len(lines) >= len(start) && slices.Equal(lines[:len(start)], start)
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
