package tui

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"strings"
	"sync/atomic"

	"github.com/alecthomas/chroma/v2"

	"tidytally/core/files"
	"tidytally/core/problem"
	"tidytally/tui/ink"
	"tidytally/tui/lexers"
)

const (
	// maxSource is the size in bytes above which no excerpt is shown.
	maxSource = 4 << 20
	// maxLexed is the size above which an excerpt is shown without the
	// colours of its language.
	maxLexed = 256 << 10
	// lexedAtOnce is the size up to which colours are there at the first look: that takes a few
	// milliseconds. A larger file gets them when they are ready.
	lexedAtOnce = 8 << 10
	// tabStop is the width of a tab in excerpts.
	tabStop = 4
)

// source is a source file that excerpts are taken from.
type source struct {
	fault string
	lines []string
	name  string
	text  string                      // until it was lexed
	inks  atomic.Pointer[[][]ink.Ink] // by line and rune, nil where there is no lexer, or not yet
	found map[sought]int
}

// sought is the text of a line that was looked for, and where it stood.
type sought struct {
	text string
	was  int
}

// find says where a line stands now, as problem.FindLine does; it looks once.
func (s *source) find(text string, was int) int {
	key := sought{text, was}
	if line, known := s.found[key]; known {
		return line
	}
	if s.found == nil {
		s.found = map[sought]int{}
	}
	s.found[key] = problem.FindLine(s.lines, text, was)
	return s.found[key]
}

func (s *source) load(name string, data []byte) {
	if bytes.IndexByte(data[:min(len(data), 8000)], 0) >= 0 {
		s.fault = "a binary file: no excerpt"
		return
	}
	text := strings.ToValidUTF8(strings.ReplaceAll(string(data), "\r\n", "\n"), "\ufffd")
	s.lines, s.name = strings.Split(text, "\n"), name
	if len(text) <= maxLexed {
		s.text = text
	}
}

// lex colours the lines of their language: when an excerpt is shown, and
// not for every file that a problem is in. ready is called, from another goroutine, if
// that takes longer than a key may.
func (s *source) lex(ready func()) {
	text := s.text
	if s.text = ""; text == "" {
		return
	}
	if len(text) <= lexedAtOnce {
		s.colour(text)
		return
	}
	go func() {
		s.colour(text)
		ready()
	}()
}

func (s *source) colour(text string) {
	lexer := lexers.Match(s.name)
	if lexer == nil {
		return
	}
	tokens, err := chroma.Coalesce(lexer).Tokenise(nil, text)
	if err != nil {
		return // the excerpt is shown without colours
	}
	inks := make([][]ink.Ink, len(s.lines))
	line := 0
	for t := tokens(); t != chroma.EOF; t = tokens() {
		style := tokenInk(t.Type)
		for _, r := range t.Value {
			if r == '\n' {
				line++
				continue
			}
			if line < len(inks) {
				inks[line] = append(inks[line], style)
			}
		}
	}
	s.inks.Store(&inks)
}

// tokenInk keeps a page calm: only what is not code itself gets an ink.
func tokenInk(t chroma.TokenType) ink.Ink {
	switch {
	case t.InCategory(chroma.Comment):
		return ink.Slate
	case t.InSubCategory(chroma.LiteralString):
		return ink.Verdigris
	case t.InCategory(chroma.Keyword):
		return ink.Bold
	}
	return ink.Plain
}

// around is how many lines of source stand before and after the one meant.
const (
	linesBefore = 2
	linesAfter  = 1
)

// sourceFiles are the files that excerpts are taken from, each read once.
type sourceFiles struct {
	*desk
	files map[string]*source
	late  map[string]*lateFile // that are being read, or were
	// coloured counts the files that got their colours, or their text, after they were shown.
	coloured atomic.Int64
}

// lex colours a file; the page is drawn again if its colours come later.
func (f *sourceFiles) lex(s *source) {
	s.lex(func() {
		f.coloured.Add(1)
		nudge(f.news)
	})
}

// forget drops what was read.
func (f *sourceFiles) forget() { f.files = nil }

// lateFile is a file that is read beside the loop.
type lateFile struct {
	read <-chan struct{} // closed when the fields below are set
	data []byte
	err  error
}

// readBeside reads a file beside the loop.
func (d *desk) readBeside(file string, most int64) *lateFile {
	f := &lateFile{}
	read := d.readFile
	f.read = d.beside("reading a file", func() {
		f.err = errors.New("it could not be read") // if this panics
		f.data, f.err = read(file, most)
	})
	return f
}

// awaited stands for a file that is still being read.
var awaited = &source{fault: "the file is being read"}

// read reads a file for excerpts.
func (f *sourceFiles) read(file string) *source {
	if s, ok := f.files[file]; ok {
		return s
	}
	if f.files == nil {
		f.files, f.late = map[string]*source{}, map[string]*lateFile{}
	}
	late := f.late[file]
	if late == nil {
		late = f.readBeside(f.absolute(file), maxSource)
		f.late[file] = late
	}
	if !isDone(late.read) {
		return awaited
	}
	s := &source{}
	var refused *files.Refused
	switch data, err := late.data, late.err; {
	case err == nil:
		s.load(file, data)
	case errors.As(err, &refused):
		s.fault = "the file " + refused.Why + ": no excerpt"
	case errors.Is(err, fs.ErrNotExist):
		s.fault = "the file is gone"
	default:
		s.fault = "the file cannot be read"
	}
	f.files[file] = s
	f.coloured.Add(1) // what was drawn without it is drawn again
	return s
}

// excerpt shows a place in its file, with the range marked, or the name that the message quotes, in rows as wide as width.
func (f *sourceFiles) excerpt(p problem.Place, message string, columns problem.Columns, indent, width int, state problem.State) []string {
	if p.File == "" || p.Line == 0 || p.File[0] == '<' {
		return nil
	}
	say := func(text string) []string {
		return []string{f.ink.Row(width).To(indent).Put(text, ink.Slate).String()}
	}
	s := f.read(p.File)
	if s.fault != "" {
		return say(s.fault)
	}
	if p.Line > len(s.lines) {
		return say(fmt.Sprintf("the file has only %s now", plural(len(s.lines), "line")))
	}
	if state == problem.Gone {
		return nil // the line may be another one by now
	}
	f.lex(s)
	var out []string
	digits := len(fmt.Sprint(p.Line + linesAfter))
	for n := max(1, p.Line-linesBefore); n <= min(len(s.lines), p.Line+linesAfter); n++ {
		r := f.ink.Row(width).To(indent).Right(fmt.Sprint(n), indent+digits+1, ink.Slate).Put(" ¦  ", ink.Slate)
		from, to := -1, -1
		if n == p.Line && p.Column > 0 {
			from, to = p.Runes(s.lines[n-1], columns)
		} else if n == p.Line {
			from, to, _ = problem.Quoted(message, s.lines[n-1])
		}
		s.write(r, n-1, from, to)
		out = append(out, r.String())
	}
	return out
}

// write writes a line of source with the runes from–to marked.
func (s *source) write(r *ink.Row, line, from, to int) {
	column := 0
	i := 0
	var inks []ink.Ink
	if all := s.inks.Load(); all != nil {
		inks = (*all)[line]
	}
	for _, c := range s.lines[line] {
		style := ink.Plain
		if i < len(inks) {
			style = inks[i]
		}
		if i >= from && i < to {
			style = ink.Bold | ink.Under
		}
		if c == '\t' {
			n := tabStop - column%tabStop
			r.Put(strings.Repeat(" ", n), style&^ink.Under)
			column += n
		} else {
			r.Put(string(c), style)
			column++
		}
		i++
	}
}
