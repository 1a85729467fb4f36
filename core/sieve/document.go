package sieve

import (
	"bytes"

	"tidytally/core/problem"
)

// Documents: tools that print their findings for other programs, as one JSON
// value over one line or many, or as XML. Lines that begin like one are held
// until it is complete; as soon as they turn out to be something else, they go
// to the families as if they had never been held.

const (
	// maxDocument is how many bytes of a document are held.
	maxDocument = 64 << 20
	// maxUndecided is how many lines may pass before a document of many lines
	// must have shown what it is.
	maxUndecided = 12
)

// document is one that is being held.
type document struct {
	held  []byte
	lines []heldLine
	json  jsonShape
	xml   bool
	known bool // it has shown what it is
}

type heldLine struct {
	from, to   int // in held
	number     int
	start, end int64
}

// jsonShape follows the nesting of a JSON text (RFC 8259) without reading it.
type jsonShape struct {
	depth    int
	inString bool
	escaped  bool
	began    bool
	bad      bool
}

func (j *jsonShape) take(b []byte) {
	for _, c := range b {
		switch {
		case j.inString:
			switch {
			case j.escaped:
				j.escaped = false
			case c == '\\':
				j.escaped = true
			case c == '"':
				j.inString = false
			}
		case c == ' ' || c == '\t' || c == '\r' || c == '\n':
		case j.began && j.depth == 0:
			j.bad = true // more behind the end
			return
		case c == '{' || c == '[':
			j.depth++
			j.began = true
		case c == '}' || c == ']':
			j.depth--
		case c == '"':
			j.inString = true
		case c == ':' || c == ',' || isDigit(c) || bytes.IndexByte([]byte("+-.Etruefalsn"), c) >= 0:
		default:
			j.bad = true
			return
		}
	}
	if j.inString { // no string of JSON goes over a line
		j.bad = true
	}
}

// beginsDocument tells whether a line may be the first of a document.
func beginsDocument(line []byte) bool {
	line = line[indentOf(line):]
	if len(line) == 0 {
		return false
	}
	switch line[0] {
	case '<':
		return hasPrefix(line, "<?xml") || hasPrefix(line, "<testsuite")
	case '{', '[':
		rest := line[1:]
		rest = rest[indentOf(rest):]
		return len(rest) == 0 || rest[0] == '"' || rest[0] == '{' || rest[0] == '[' || rest[0] == '\r'
	}
	return false
}

// documentWords show what a document of many lines is.
var documentWords = [][]byte{
	[]byte(`"runs"`), []byte(`sarif`), []byte(`"filePath"`), []byte(`"messages"`), []byte(`"locations"`), []byte(`"message-id"`), []byte(`"symbol"`),
	[]byte(`"endLine"`), []byte(`"end_location"`), []byte(`"severity"`), []byte(`"ruleId"`),
}

// hold takes a line into a document; ok is false when it belongs to none.
func (e *Engine) hold(raw []byte, start, end int64) (ok bool) {
	d := e.document
	if d == nil {
		if !beginsDocument(raw) {
			return false
		}
		d = &document{xml: bytes.TrimLeft(raw, " \t")[0] == '<'}
		e.document = d
	}
	from := len(d.held)
	d.held = append(append(d.held, raw...), '\n')
	d.lines = append(d.lines, heldLine{from, len(d.held) - 1, e.stats.Lines, start, end})
	if d.xml {
		e.holdXML(d, raw)
		return true
	}
	d.json.take(raw)
	d.known = d.known || e.showsDocument(raw)
	switch {
	case d.json.bad || len(d.held) > maxDocument || !d.known && len(d.lines) > maxUndecided:
		e.release(false)
	case d.json.depth == 0:
		e.release(true)
	}
	return true
}

func (e *Engine) showsDocument(raw []byte) bool {
	for _, w := range documentWords {
		if bytes.Contains(raw, w) {
			return true
		}
	}
	return false
}

func (e *Engine) holdXML(d *document, raw []byte) {
	d.known = d.known || bytes.Contains(raw, []byte("<testsuite"))
	text := bytes.TrimSpace(raw)
	switch {
	case len(d.held) > maxDocument || !d.known && len(d.lines) > 3 || !d.known && len(text) > 0 && text[0] != '<':
		e.release(false)
	case bytes.HasSuffix(text, []byte("</testsuites>")), bytes.HasSuffix(text, []byte("</testsuite>")) && !bytes.Contains(d.held, []byte("<testsuites")):
		e.release(true)
	}
}

// release ends the document: it is read when it is complete, and else, or when
// nothing reads it, its lines go to the families.
func (e *Engine) release(complete bool) {
	d := e.document
	e.document = nil
	if d == nil {
		return
	}
	first, last := d.lines[0], d.lines[len(d.lines)-1]
	span := problem.Span{FirstLine: first.number, LastLine: last.number, StartByte: first.start, EndByte: last.end}
	if complete {
		if d.xml && e.readJUnit(d.held, span) || !d.xml && e.readJSON(d.held, span) {
			return
		}
	}
	lines := e.stats.Lines
	for i, l := range d.lines {
		e.stats.Lines = l.number
		text := d.held[l.from:l.to]
		if i > 0 && beginsDocument(text) && !complete && len(d.held) <= maxDocument && i == len(d.lines)-1 {
			// What broke the document may begin another one.
			e.hold(text, l.start, l.end)
			continue
		}
		e.sift(text, l.start, l.end)
	}
	e.stats.Lines = lines
}

// report hands on a problem that a document told.
func (e *Engine) report(family string, p problem.Problem, span problem.Span) {
	e.finish()
	e.stamp(&p, family)
	p.Seq, p.Output = 0, span
	e.current, e.open = p, true
	e.finish()
}
