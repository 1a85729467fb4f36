package lsp

import (
	"cmp"
	"encoding/json"
	"maps"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"tidytally/core/files"
	"tidytally/core/history"
	"tidytally/core/printable"
	"tidytally/core/problem"
	"tidytally/core/sieve/family"
	"tidytally/core/tallyfile"
	"tidytally/core/task"
)

// Diagnostics are the problems of the newest run of each task, and what is wrong with declarations. All are
// worked out anew when something changes, and those of a file are sent where they are others than before.

// maxShown bounds the diagnostics of one file.
const maxShown = 2000

// maxSourceFile is the size in bytes of a file beyond which places are not looked for in it.
const maxSourceFile = 8 << 20

// publish sends the diagnostics of all files that have others than before.
func (s *Server) publish() {
	if s.state != running || !s.ready {
		return
	}
	g := s.gathering()
	paths := map[string]bool{}
	for _, w := range s.spaces {
		for path := range w.byFile() {
			paths[path] = true
		}
		for path := range w.faulty() {
			paths[path] = true
		}
	}
	rest := slices.Sorted(maps.Keys(paths))
	if s.unsent != nil && len(s.unsent.rest) > 0 { // those that wait already come first
		at, _ := slices.BinarySearch(rest, s.unsent.rest[0])
		rest = append(slices.Clone(rest[at:]), rest[:at]...)
	}
	s.unsent = &round{g, paths, rest}
}

// round is a round of diagnostics for all files.
type round struct {
	*gathering
	paths map[string]bool // absolute, that have some
	rest  []string        // those that are not worked out yet, in order
}

// atOnce is how long diagnostics are worked out before what waits has its turn.
const atOnce = 10 * time.Millisecond

// publishSome sends the diagnostics of some of the files of the round that goes on.
func (s *Server) publishSome() {
	r := s.unsent
	for began := time.Now(); len(r.rest) > 0; r.rest = r.rest[1:] {
		if time.Since(began) > atOnce {
			return
		}
		s.send(r.rest[0], r.of(r.rest[0]))
		delete(r.texts, r.rest[0])
	}
	s.unsent = nil
	for uri := range s.published {
		if path := pathOf(uri); !r.paths[real(path)] && !r.paths[path] {
			s.send(path, nil)
		}
	}
}

// publishOne sends the diagnostics of an open document.
func (s *Server) publishOne(d *document) { s.publishFiles([]string{d.path}) }

// parse reads an open tally file as it is in the client, beside the loop, one text after the other.
func (s *Server) parse(d *document) {
	w, rel := s.spaceOf(d.path)
	if w == nil || !tallyfile.IsTallyFile(rel) {
		return
	}
	if d.parsing {
		d.again = true
		return
	}
	d.parsing = true
	text, found := d.text, w.survey
	go func() {
		var faults []task.Fault
		saved, err := files.Read(d.path, files.Limit)
		edited := err != nil || string(saved) != text
		if edited {
			f := tallyfile.Parse(rel, []byte(text))
			if faults = f.Faults; found != nil {
				faults = append(faults, found.Tally.Unknown(f, found.Tasks)...)
			}
		}
		s.do(func() {
			d.parsing, d.edited, d.faults, w.faults = false, edited, faults, nil
			if d.again {
				d.again = false
				s.parse(d)
			}
			if s.documents[d.path] == d {
				s.publishOne(d)
			}
		})
	}()
}

// send tells the client the diagnostics of a file, if it has others.
func (s *Server) send(path string, list []diagnostic) {
	p := publishParams{URI: uriOf(path), Diagnostics: list}
	if list == nil {
		p.Diagnostics = []diagnostic{}
	}
	if d := s.documents[path]; d != nil {
		p.URI, p.Version = d.uri, d.version
	}
	text, err := json.Marshal(p)
	if err != nil || s.published[p.URI] == string(text) || list == nil && s.published[p.URI] == "" {
		return
	}
	if s.published[p.URI] = string(text); list == nil {
		delete(s.published, p.URI)
	}
	s.stream.diagnose(p.URI, slices.Concat([]byte(`{"jsonrpc":"2.0","method":"textDocument/publishDiagnostics","params":`), text, []byte("}")))
}

// publishFiles sends the diagnostics of some files, absolute.
func (s *Server) publishFiles(paths []string) {
	if s.state != running || !s.ready {
		return
	}
	g := s.gathering()
	for _, path := range paths {
		s.send(path, g.of(path))
	}
}

func (s *Server) gathering() *gathering {
	return &gathering{server: s, texts: map[string]*document{}}
}

// of works out the diagnostics of a file, absolute.
func (g *gathering) of(path string) (list []diagnostic) {
	anchors := map[anchorKey]anchor{}
	d := g.server.documents[path]
	for _, w := range g.server.spaces {
		for _, p := range w.byFile()[path] {
			found := g.problem(w, path, p)
			if d != nil {
				a, known := d.anchors[keyOf(p)]
				if !known {
					a.at = found.Range
				}
				anchors[keyOf(p)] = a
				if found.Range = a.at; a.gone {
					continue
				}
			}
			list = append(list, found)
		}
		for _, f := range w.faulty()[path] {
			list = append(list, g.fault(path, f))
		}
	}
	if d != nil {
		d.anchors = anchors
	}
	slices.SortStableFunc(list, func(a, b diagnostic) int {
		return cmp.Or(a.Range.Start.Line-b.Range.Start.Line, a.Range.Start.Character-b.Range.Start.Character, a.Severity-b.Severity, strings.Compare(a.Message, b.Message))
	})
	return list[:min(len(list), maxShown)]
}

// byFile returns the problems that stand by their files, absolute: the same one of several tasks once.
func (w *space) byFile() map[string][]*history.Lived {
	if w.index != nil {
		return w.index
	}
	type key struct {
		problem.Place
		code, message string
	}
	w.index = map[string][]*history.Lived{}
	seen := map[key]bool{}
	for _, list := range w.problems() {
		for i := range list {
			p := &list[i].Problem
			k := key{p.Place, p.Code, p.Message}
			if p.File == "" || p.File[0] == '<' || seen[k] {
				continue
			}
			seen[k] = true
			path := w.absolute(p.File)
			w.index[path] = append(w.index[path], &list[i])
		}
	}
	return w.index
}

// problems returns the problems that stand, in the order of the tasks' ids.
func (w *space) problems() (lists [][]history.Lived) {
	for _, id := range slices.Sorted(maps.Keys(w.known)) {
		if w.survey == nil || w.survey.Partial || w.find(id) != nil {
			lists = append(lists, w.known[id])
		}
	}
	return lists
}

type gathering struct {
	server *Server
	texts  map[string]*document // of files, read once; nil for those that cannot be
}

// text returns the text of a file: as it is in the client, else as it was saved; nil if there is none.
func (g *gathering) text(path string) *document {
	if d := g.server.documents[path]; d != nil {
		return d
	}
	if d, known := g.texts[path]; known {
		return d
	}
	g.texts[path] = nil
	if data, err := files.Read(path, maxSourceFile); err == nil {
		d := &document{path: path}
		d.set(string(data))
		g.texts[path] = d
	}
	return g.texts[path]
}

// absolute returns the path of a problem's file.
func (w *space) absolute(file string) string {
	if filepath.IsAbs(file) {
		return filepath.Clean(file)
	}
	return filepath.Join(w.root, filepath.FromSlash(file))
}

// place returns the range that a place means now. text is the line as it was.
func (g *gathering) place(path string, p problem.Place, message string, columns problem.Columns, text string) span {
	line := max(0, p.Line-1)
	d := g.text(path)
	if d == nil {
		return span{position{line, max(0, p.Column-1)}, position{line, max(0, p.Column)}}
	}
	if text != "" && problem.TrimSource(d.line(line)) != text {
		if moved := problem.FindLine(d.lines(), text, p.Line); moved > 0 {
			line = moved - 1
		}
	}
	line = min(line, len(d.starts)-1)
	source, e := d.line(line), g.server.encoding
	if p.Line == 0 || p.Column == 0 {
		if from, to, ok := problem.Quoted(message, source); ok && p.Line > 0 {
			return span{position{line, e.ofRune(source, from)}, position{line, e.ofRune(source, to)}}
		}
		from := len(source) - len(strings.TrimLeft(source, " \t"))
		return span{position{line, e.ofByte(source, from)}, position{line, e.ofByte(source, len(strings.TrimRight(source, " \t")))}}
	}
	from, to := p.Runes(source, columns)
	r := span{position{line, e.ofRune(source, from)}, position{line, e.ofRune(source, to)}}
	if p.EndLine > p.Line && p.EndColumn > 0 {
		last := min(line+p.EndLine-p.Line, len(d.starts)-1)
		r.End = position{last, e.ofRune(d.line(last), columns.Rune(d.line(last), p.EndColumn))}
	}
	return r
}

var unused = []string{"unused", "never used", "never read", "unreachable", "dead code", "ts6133", "f401"}

// tagsOf returns the tags of the protocol: 1 for what is not needed, 2 for what is deprecated.
func tagsOf(p *problem.Problem) (tags []int) {
	words := strings.ToLower(p.Code + " " + p.Message)
	if slices.ContainsFunc(unused, func(word string) bool { return strings.Contains(words, word) }) {
		tags = append(tags, 1)
	}
	if strings.Contains(words, "deprecated") {
		tags = append(tags, 2)
	}
	return tags
}

// problem makes the diagnostic of a problem of a run.
func (g *gathering) problem(w *space, path string, of *history.Lived) diagnostic {
	p := &of.Problem
	columns := family.All.Columns(p.Family)
	d := diagnostic{
		Range: g.place(path, p.Place, p.Message, columns, of.LineText), Severity: int(p.Severity) + 1, Code: printable.Text(p.Code), Source: p.Family,
		Message: strings.ReplaceAll(p.Message, "\x00", ""),
	}
	if p.Severity != problem.Error {
		d.Tags = tagsOf(p)
	}
	for _, r := range p.Related {
		if r.File != "" && r.File[0] != '<' {
			at := w.absolute(r.File)
			d.Related = append(d.Related, relatedInformation{location{g.server.uri(at), g.place(at, r.Place, r.Message, columns, "")}, r.Message})
		}
	}
	return d
}

// uri returns the URI of a file, as the client writes it where it is open.
func (s *Server) uri(path string) string {
	if d := s.documents[path]; d != nil {
		return d.uri
	}
	return uriOf(path)
}

// faulty returns what is wrong with declarations, by their files, absolute. A tally file that is being edited is
// read as it is in the client.
func (w *space) faulty() map[string][]task.Fault {
	if w.faults != nil {
		return w.faults
	}
	w.faults = map[string][]task.Fault{}
	edited := map[string]bool{}
	for path, d := range w.documents {
		if of, _ := w.spaceOf(path); of == w && d.edited {
			edited[path] = true
			w.faults[path] = d.faults
		}
	}
	if w.survey != nil {
		for _, f := range w.survey.Faults {
			if path := w.absolute(f.File); !edited[path] {
				w.faults[path] = append(w.faults[path], f)
			}
		}
	}
	return w.faults
}

func (g *gathering) fault(path string, f task.Fault) diagnostic {
	severity := 2 // a warning
	if f.Limit {
		severity = 3 // information
	}
	return diagnostic{
		Range: g.place(path, problem.Place{File: f.File, Line: f.Line, Column: f.Column}, f.Message, problem.Characters, ""), Severity: severity, Source: "tidytally", Message: f.Message,
	}
}
