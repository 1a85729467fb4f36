package sieve

import (
	"bytes"

	"tidytally/core/problem"
	"tidytally/core/sieve/lex"
)

// A document is what a tool prints for other programs: one JSON value over one line
// or many, or XML. Lines that may start one are held until it is complete. As soon
// as they turn out to be something else, they are offered to the families as usual.

// Document is a row of a Set: a form of document and how to read it.
type Document struct {
	// Family is the name under which its problems are reported.
	Family string
	// Opens is the first character: "{", "[" or "<".
	Opens string
	// Words must all occur in the document.
	Words []string
	// Shows are words that identify a document of many lines: one of them must occur
	// early. A document without any has one line.
	Shows []string
	// Read reports the problems. It returns false if the document has another form.
	Read func(text []byte, rep *DocumentReporter) bool
}

// A DocumentReporter is what a document is read with: it reports problems with the
// lines of the whole document.
type DocumentReporter struct {
	engine *Engine
	family string
	span   problem.Span
}

// Place returns the path of a file as Reporter.Place does.
func (r *DocumentReporter) Place(printed string) string { return r.engine.place(printed) }

// Report reports a problem.
func (r *DocumentReporter) Report(p problem.Problem) { r.engine.report(r.family, p, r.span) }

// Sift returns the problems that the built-in families find in text from the
// document.
func (r *DocumentReporter) Sift(text string) (found []problem.Problem) {
	part := r.engine.nested(func(p problem.Problem) { found = append(found, p) })
	part.Write([]byte(text))
	part.Close()
	return found
}

// WritePart takes the next piece of an output that is spread over several documents,
// such as that of a package in go test -json. Its problems are reported as they
// become complete, with the lines of all these documents.
func (r *DocumentReporter) WritePart(name, text string) {
	e := r.engine
	p := e.parts[name]
	if p == nil {
		if len(e.parts) > MaxParts {
			return
		}
		p = &part{span: r.span}
		p.Engine = e.nested(func(found problem.Problem) { e.report(found.Family, found, p.span) })
		if e.parts == nil {
			e.parts = map[string]*part{}
		}
		e.parts[name] = p
	}
	p.span.LastLine, p.span.EndByte = r.span.LastLine, r.span.EndByte
	p.Write([]byte(text))
}

// EndPart ends the output of that name.
func (r *DocumentReporter) EndPart(name string) {
	if p := r.engine.parts[name]; p != nil {
		p.Close()
		delete(r.engine.parts, name)
	}
}

// part is an output inside of another one.
type part struct {
	*Engine
	span problem.Span
}

// nested returns an engine with the built-in families for a part of the output.
func (e *Engine) nested(found func(problem.Problem)) *Engine {
	opts := e.opts
	opts.Own, opts.Families, opts.Repeat, opts.Cycle = nil, nil, nil, nil
	opts.Problem = found
	return New(e.set, opts)
}

func (e *Engine) closeParts() {
	for name, p := range e.parts {
		p.Close()
		delete(e.parts, name)
	}
}

const (
	// maxDocument is the size in bytes of the largest document that is held; a
	// larger one is sifted as plain lines.
	maxDocument = 64 << 20
	// maxUndecided is the number of lines within which a document of many lines must
	// have shown what it is. Otherwise any opening bracket would hold back the rest
	// of the output.
	maxUndecided = 12
)

// heldDocument is a document that is not complete yet.
type heldDocument struct {
	held  []byte
	lines []heldLine
	json  jsonShape
	xml   bool
	known bool // a word of Shows has occurred
}

type heldLine struct {
	from, to   int // in held
	number     int
	start, end int64
}

// jsonShape follows the nesting of a JSON text (RFC 8259) without parsing it.
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
		case c == ':' || c == ',' || lex.IsDigit(c) || bytes.IndexByte([]byte("+-.Etruefalsn"), c) >= 0:
		default:
			j.bad = true
			return
		}
	}
	if j.inString { // no string of JSON goes over a line
		j.bad = true
	}
}

// beginsDocument reports whether a line may be the first of a document.
func beginsDocument(line []byte) bool {
	line = line[lex.Indent(line):]
	if len(line) == 0 {
		return false
	}
	switch line[0] {
	case '<':
		return lex.HasPrefix(line, "<?xml") || lex.HasPrefix(line, "<testsuite")
	case '{', '[':
		rest := line[1:]
		rest = rest[lex.Indent(rest):]
		return len(rest) == 0 || rest[0] == '"' || rest[0] == '{' || rest[0] == '[' || rest[0] == '\r'
	}
	return false
}

// hold adds a line to a document. It returns false if the line belongs to none.
func (e *Engine) hold(raw []byte, start, end int64) (ok bool) {
	d := e.document
	if d == nil {
		if !beginsDocument(raw) {
			return false
		}
		d = &heldDocument{xml: bytes.TrimLeft(raw, " \t")[0] == '<'}
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

// showsDocument reports whether a line shows that a document of many lines is of
// a known form.
func (e *Engine) showsDocument(raw []byte) bool {
	for i := range e.set.documents {
		for _, w := range e.set.documents[i].Shows {
			if bytes.Contains(raw, []byte(w)) {
				return true
			}
		}
	}
	return false
}

// readDocument reports whether a complete document was of a known form and read.
func (e *Engine) readDocument(text []byte, span problem.Span) bool {
	text = bytes.TrimSpace(text)
forms:
	for i := range e.set.documents {
		d := &e.set.documents[i]
		if !lex.HasPrefix(text, d.Opens) {
			continue
		}
		for _, w := range d.Words {
			if !bytes.Contains(text, []byte(w)) {
				continue forms
			}
		}
		if d.Read(text, &DocumentReporter{e, d.Family, span}) {
			return true
		}
	}
	return false
}

func (e *Engine) holdXML(d *heldDocument, raw []byte) {
	d.known = d.known || bytes.Contains(raw, []byte("<testsuite"))
	text := bytes.TrimSpace(raw)
	switch {
	case len(d.held) > maxDocument || !d.known && len(d.lines) > 3 || !d.known && len(text) > 0 && text[0] != '<':
		e.release(false)
	case bytes.HasSuffix(text, []byte("</testsuites>")), bytes.HasSuffix(text, []byte("</testsuite>")) && !bytes.Contains(d.held, []byte("<testsuites")):
		e.release(true)
	}
}

// release ends the document. If it is not complete, or nobody can read it, its lines
// are offered to the families.
func (e *Engine) release(complete bool) {
	d := e.document
	e.document = nil
	if d == nil {
		return
	}
	first, last := d.lines[0], d.lines[len(d.lines)-1]
	span := problem.Span{FirstLine: first.number, LastLine: last.number, StartByte: first.start, EndByte: last.end}
	if complete && e.readDocument(d.held, span) {
		return
	}
	lines := e.stats.Lines
	for i, l := range d.lines {
		e.stats.Lines = l.number
		text := d.held[l.from:l.to]
		if i > 0 && beginsDocument(text) && !complete && len(d.held) <= maxDocument && i == len(d.lines)-1 {
			// The line that broke the document may start another one.
			e.hold(text, l.start, l.end)
			continue
		}
		e.sift(text, l.start, l.end)
	}
	e.stats.Lines = lines
}

// report reports a problem of a document.
func (e *Engine) report(family string, p problem.Problem, span problem.Span) {
	e.finish()
	e.stamp(&p, family)
	p.Seq, p.Output = 0, span
	e.current, e.open = p, true
	e.finish()
}
