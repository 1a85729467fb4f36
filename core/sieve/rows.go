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
	// shown are the lines of the drawing, by row; changed are the rows that were drawn
	// since it was settled.
	shown   map[int]shownRow
	changed []int
	// parts are the lines that were behind the bars of a part, by its head.
	parts map[string][]string
}

type shownRow struct {
	text   string
	folder string // of a head
}

const (
	// maxRows is the number of rows that are remembered: more than a terminal has.
	maxRows = 512
	// maxPart is the number of rows of one part.
	maxPart = 64
)

// line takes a line at the row of the cursor. It reports whether the line is a part of
// a drawing.
func (r *rows) line(t []byte) bool {
	folder, head := taskHead(t)
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
		r.shown, r.parts = map[int]shownRow{}, map[string][]string{}
	}
	if len(r.shown) >= maxRows {
		maps.DeleteFunc(r.shown, func(row int, _ shownRow) bool { return row < r.at-maxRows/2 || row > r.at+maxRows/2 })
	}
	r.shown[r.at] = shownRow{string(t), string(folder)}
	if len(r.changed) < maxRows {
		r.changed = append(r.changed, r.at)
	}
	return true
}

// move follows the cursor.
func (r *rows) move(down int) {
	r.at += down
	r.bottom = max(r.bottom, r.at)
}

// drawn reports whether the drawing is complete for now: the cursor is at its last row,
// which often stays, or is about to go up to draw again.
func (r *rows) drawn(down int) bool {
	return len(r.changed) > 0 && (down < 0 || r.at >= r.bottom-1)
}

// settle calls each with the lines that are new in the drawing, and the folder that
// their task runs in.
func (r *rows) settle(each func(folder, line string)) {
	slices.Sort(r.changed)
	done := r.changed[0] - 1 // the last row that was looked at
	for _, row := range r.changed {
		if row <= done {
			continue
		}
		head := row
		for head > row-maxPart && r.shown[head].folder == "" && r.shown[head].text != "" {
			head--
		}
		if r.shown[head].folder != "" {
			done = r.part(head, each)
		}
	}
	r.changed = r.changed[:0]
}

// part compares what is behind the bars below a head with what was there before. It
// returns the last row of the part.
func (r *rows) part(head int, each func(folder, line string)) (last int) {
	name, folder := r.shown[head].text, r.shown[head].folder
	var now []string
	for last = head; last < head+maxPart; {
		text, bar := strings.CutPrefix(r.shown[last+1].text, "│")
		if !bar && !(last == head && strings.HasSuffix(text, " lines collapsed]")) {
			break
		}
		if last++; bar {
			// A text that was cut to the width of the terminal ends in a mark.
			now = append(now, strings.TrimSuffix(strings.TrimPrefix(text, " "), "…"))
		}
	}
	before := r.parts[name]
	// The part scrolled by as many lines as make the rest of it the start of what it
	// shows now.
	scrolled := 0
	for scrolled < len(before) && !startsWith(now, before[scrolled:]) {
		scrolled++
	}
	for _, line := range now[len(before)-scrolled:] {
		each(folder, line)
	}
	if len(now) > 0 && len(r.parts) < maxRows {
		r.parts[name] = now
	}
	return last
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
