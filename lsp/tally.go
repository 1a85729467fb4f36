package lsp

import (
	"path"
	"path/filepath"
	"slices"
	"strings"
	"unicode/utf8"

	"tidytally/core/datatext"
	"tidytally/core/files"
	"tidytally/core/printable"
	"tidytally/core/tallyfile"
	"tidytally/core/task"
)

// Help with tally files.

// tallyFile returns an open tally file, its workspace and its path there; nil if the document is none.
func (s *Server) tallyFile(uri string) (*document, *space, string) {
	d := s.documentOf(uri)
	if d == nil || !tallyfile.IsTallyFile(d.path) {
		return nil, nil, ""
	}
	w, rel := s.spaceOf(d.path)
	if w == nil {
		return nil, nil, ""
	}
	return d, w, rel
}

// spot is where the cursor is in a tally file.
type spot struct {
	table []string // the keys of the header that it is below
	key   string   // of the value that it is in; "" before an equals sign
	text  string   // what is written so far of the word, without its quote
	from  int      // the byte at which the word begins, behind a quote
	to    int      // the byte at which it ends
	quote bool     // it is in a string
	head  bool     // it is in a header
}

// spotAt finds where a byte of a tally file is. The text need not be whole: it is being written.
func spotAt(text string, at int) spot {
	at = min(at, len(text))
	var p spot
	start := strings.LastIndexByte(text[:at], '\n') + 1
	line := text[start:at]
	if trimmed := strings.TrimLeft(line, " \t"); strings.HasPrefix(trimmed, "[") && !p.insideValue(text, start) {
		p.head = true
		p.from = start + len(line) - len(strings.TrimLeft(trimmed, "["))
		p.text, p.to = text[p.from:at], at
		return p
	}
	for end := start; end > 0; {
		from := strings.LastIndexByte(text[:end-1], '\n') + 1
		last := strings.TrimSpace(text[from:end])
		end = from
		if strings.HasPrefix(last, "[") && strings.Contains(last, "]") && !strings.Contains(last, "\"\"\"") {
			root := datatext.ReadTOML([]byte(last+"\n"), func(int, int, string) {})
			for n := root; n != nil && len(n.Entries) > 0; {
				p.table = append(p.table, n.Entries[0].Key)
				if n = n.Entries[0].Value; n.Kind == datatext.List && len(n.Items) > 0 {
					n = n.Items[0]
				}
			}
			if len(p.table) > 0 {
				break
			}
		}
	}
	p.value(text, at, start)
	return p
}

// insideValue reports whether a line begins within a list that was begun on one before.
func (p *spot) insideValue(text string, start int) bool {
	for back, end := 0, start; end > 0 && back < 200; back++ {
		from := strings.LastIndexByte(text[:end-1], '\n') + 1
		line := strings.TrimSpace(text[from : end-1])
		if i := strings.IndexByte(line, '='); i > 0 && !strings.HasPrefix(line, "#") && !strings.HasPrefix(line, "\"") {
			value := line[i+1:]
			return strings.Count(value, "[") > strings.Count(value, "]") && !strings.Contains(text[end:start], "]")
		}
		if strings.HasPrefix(line, "[") && strings.HasSuffix(line, "]") {
			return false
		}
		end = from
	}
	return false
}

// value finds the key and the word at the cursor, on its line or in a list that was begun before it.
func (p *spot) value(text string, at, start int) {
	from := start
	if p.insideValue(text, start) {
		for end := start; end > 0; {
			from = strings.LastIndexByte(text[:end-1], '\n') + 1
			if i := strings.IndexByte(text[from:end], '='); i > 0 {
				break
			}
			end = from
		}
	}
	whole := text[from:at]
	equals := strings.IndexByte(whole, '=')
	end := at
	for end < len(text) && text[end] != '\n' && (text[end] == '_' || text[end] == '-' || text[end] == '#' || text[end] == '/' || text[end] == '.' || text[end] >= '0' && text[end] <= '9' || text[end]|0x20 >= 'a' && text[end]|0x20 <= 'z' || text[end] >= utf8.RuneSelf) {
		end++
	}
	if equals < 0 {
		p.from = start + len(text[start:at]) - len(strings.TrimLeft(text[start:at], " \t"))
		p.text, p.to = text[p.from:at], end
		return
	}
	p.key = strings.Trim(strings.TrimSpace(whole[:equals]), `"'`)
	quote := byte(0)
	p.from = at
	for i := from + equals + 1; i < at; i++ {
		switch c := text[i]; {
		case quote != 0 && c == quote:
			quote = 0
			p.from = at
		case quote == 0 && (c == '"' || c == '\''):
			quote, p.from = c, i+1
		case quote == 0 && (c == ' ' || c == ',' || c == '[' || c == '\t' || c == '\n'):
			p.from = i + 1
		}
	}
	p.quote = quote != 0
	if p.quote {
		if i := strings.IndexByte(text[at:], quote); i >= 0 && !strings.ContainsRune(text[at:at+i], '\n') {
			end = at + i
		}
	}
	p.from = min(p.from, at)
	p.text, p.to = text[p.from:at], max(end, at)
}

// maxItems bounds the completions of one answer: the client asks again as more is typed.
const maxItems = 200

func (s *Server) complete(p *positionParams) (any, error) {
	list := completionList{Items: []completionItem{}}
	d, w, rel := s.tallyFile(p.TextDocument.URI)
	if d == nil {
		return list, nil
	}
	at := spotAt(d.text, d.offset(p.Position, s.encoding))
	r := span{d.position(at.from, s.encoding), d.position(at.to, s.encoding)}
	add := func(kind int, label, detail, about, text string) bool {
		if !strings.Contains(strings.ToLower(label), strings.ToLower(strings.TrimPrefix(at.text, "#"))) {
			return true
		}
		if len(list.Items) == maxItems {
			list.IsIncomplete = true
			return false
		}
		list.Items = append(list.Items, completionItem{Label: label, Kind: kind, Detail: detail, Documentation: about, FilterText: text, TextEdit: &textEdit{r, text}})
		return true
	}
	quoted := func(text string) string {
		if at.quote {
			return tallyfile.InQuotes(text)
		}
		return tallyfile.StringText(text)
	}
	switch {
	case at.head:
		names, named := tallyfile.Tables()
		for _, name := range names {
			about, _, _ := tallyfile.TableKeys(name)
			label := name
			if named[name] {
				label += "."
			}
			add(itemModule, label, "", about, label)
		}
		if name, ok := strings.CutPrefix(at.text, "adjust."); ok && w.survey != nil {
			at.text = strings.Trim(name, `"'`)
			for _, t := range w.survey.Tasks {
				if !t.Hidden && !add(itemReference, t.ID(), t.About, t.Command.String(), "adjust."+tallyfile.StringText(t.ID())) {
					break
				}
			}
		}
	case len(at.table) == 0:
	case at.key == "":
		_, keys, _ := tallyfile.TableKeys(at.table[0])
		for _, k := range keys {
			value := k.Example
			switch {
			case value == "" && k.List:
				value = "[]"
			case value == "" && len(k.Choices) > 0 && k.Choices[0] == "true":
				value = "true"
			case value == "":
				value = `""`
			}
			add(itemProperty, k.Name, k.Type, k.About, k.Name+" = "+value)
		}
	default:
		w.completeValue(rel, at, quoted, add)
	}
	return list, nil
}

// completeValue offers values of a key.
func (w *space) completeValue(rel string, at spot, quoted func(string) string, add func(kind int, label, detail, about, text string) bool) {
	_, keys, _ := tallyfile.TableKeys(at.table[0])
	if i := slices.IndexFunc(keys, func(k tallyfile.Key) bool { return k.Name == at.key }); i >= 0 {
		for _, choice := range keys[i].Choices {
			text := choice
			if choice != "true" && choice != "false" {
				text = quoted(choice)
			}
			add(itemValue, choice, "", keys[i].About, text)
		}
	}
	if w.survey == nil {
		return
	}
	switch at.key {
	case "before", "with", "after", "usual":
		for _, t := range w.survey.Tasks {
			if t.Hidden {
				continue
			}
			id := t.ID()
			if t.File == rel && at.key != "usual" {
				_, name := task.SplitID(id)
				id = "#" + name
			}
			if !add(itemReference, id, t.About, t.Command.String(), quoted(id)) {
				return
			}
		}
	case "via":
		for name := range w.survey.Tally.Vias {
			v := w.survey.Tally.Vias[name]
			add(itemReference, name, v.Command.String(), "", quoted(name))
		}
	case "at":
		for name := range w.survey.Tally.Places {
			place := w.survey.Tally.Places[name]
			add(itemReference, name, place.Command.String(), "", quoted(name))
		}
	case "sieves":
		for i := range w.survey.Tally.Sieves {
			add(itemReference, w.survey.Tally.Sieves[i].Name, "of a tally file", "", quoted(w.survey.Tally.Sieves[i].Name))
		}
	case "learn", "skip", "kinds":
		if at.table[0] == "workspace" || at.table[0] == "via" {
			for _, kind := range task.Kinds {
				add(itemValue, string(kind), "a kind of task", "", quoted(string(kind)))
			}
		}
	case "in", "env_file", "folders", "reads", "makes", "rerun_on", "files":
		w.completeFiles(rel, at, quoted, add)
	}
}

// completeFiles offers the files and folders of the folder that was typed so far.
func (w *space) completeFiles(rel string, at spot, quoted func(string) string, add func(kind int, label, detail, about, text string) bool) {
	base := path.Dir(rel)
	switch at.key {
	case "reads", "makes", "rerun_on":
		if len(at.table) > 1 {
			if t := w.find(task.MakeID(rel, at.table[1])); t != nil {
				base = t.Dir
			}
		}
	}
	folder, _ := path.Split(at.text)
	dir := filepath.Join(w.root, filepath.FromSlash(path.Join(base, folder)))
	if inside, err := filepath.Rel(w.root, dir); err != nil || !filepath.IsLocal(inside) {
		return
	}
	entries, err := files.List(dir)
	if err != nil {
		return
	}
	for _, e := range entries {
		name := folder + e.Name()
		if e.IsDir() {
			name += "/"
		} else if at.key == "in" || at.key == "folders" {
			continue
		}
		if strings.HasPrefix(e.Name(), ".") && e.Name() != ".env" || name != printable.Text(name) {
			continue
		}
		if !add(itemFile, name, "", "", quoted(name)) {
			return
		}
	}
}

// named is a place of a tally file where something is named, with its range.
type named struct {
	tallyfile.Name
	file string // relative to the workspace
	path string // absolute
	at   span
}

// namesIn returns the places of a tally file where something is named.
func (s *Server) namesIn(w *space, rel string) (names []named) {
	full := w.absolute(rel)
	d := s.documents[full]
	if d == nil {
		data, err := files.Read(full, files.Limit)
		if err != nil {
			return nil
		}
		d = &document{path: full}
		d.set(string(data))
	}
	for _, n := range tallyfile.Names(rel, []byte(d.text)) {
		line := d.line(n.Line - 1)
		from := s.encoding.ofRune(line, n.Column-1)
		length := 0
		if rest := line[s.encoding.byteAt(line, from):]; n.Bytes <= len(rest) {
			length = s.encoding.ofByte(rest, n.Bytes)
		}
		names = append(names, named{n, rel, full, span{position{n.Line - 1, from}, position{n.Line - 1, from + length}}})
	}
	return names
}

// nameAt returns what is named at a position of a tally file; nil if nothing is.
func (s *Server) nameAt(p *positionParams) (*named, *space) {
	d, w, rel := s.tallyFile(p.TextDocument.URI)
	if d == nil {
		return nil, nil
	}
	for _, n := range s.namesIn(w, rel) {
		if at := n.at; at.Start.Line == p.Position.Line && at.Start.Character <= p.Position.Character && p.Position.Character <= at.End.Character {
			return &n, w
		}
	}
	return nil, w
}

// sameAs reports whether a place names what another one does.
func (w *space) sameAs(a, b *named) bool {
	if a.What != b.What {
		return false
	}
	if a.What != tallyfile.OfTask {
		return a.ID == b.ID
	}
	return w.idOf(a.ID) == w.idOf(b.ID)
}

// idOf returns the whole id of a task that may be named by a short one.
func (w *space) idOf(id string) string {
	if t := w.find(id); t != nil {
		return t.ID()
	}
	return id
}

// tallyFiles returns the tally files of the workspace.
func (w *space) tallyFiles() (files []string) {
	if w.survey != nil {
		for _, r := range w.survey.Read {
			if tallyfile.IsTallyFile(r.Path) && !filepath.IsAbs(r.Path) && !strings.HasPrefix(r.Path, "~") {
				files = append(files, r.Path)
			}
		}
	}
	for path := range w.documents {
		if of, rel := w.spaceOf(path); of == w && tallyfile.IsTallyFile(rel) && !slices.Contains(files, rel) {
			files = append(files, rel)
		}
	}
	slices.Sort(files)
	return files
}

// referencesTo returns all places that name the same thing as n, n included.
func (w *space) referencesTo(n *named) (all []named) {
	for _, file := range w.tallyFiles() {
		for _, other := range w.namesIn(w, file) {
			if w.sameAs(n, &other) {
				all = append(all, other)
			}
		}
	}
	return all
}

func (s *Server) definition(p *positionParams) (any, error) {
	n, w := s.nameAt(p)
	if n == nil {
		return nil, nil
	}
	at := func(o task.Origin) any {
		if o.File == "" || o.Line == 0 {
			return nil
		}
		path := w.absolute(o.File)
		g := s.gathering()
		pos := position{o.Line - 1, 0}
		if d := g.text(path); d != nil && o.Column > 0 {
			pos.Character = s.encoding.ofRune(d.line(pos.Line), o.Column-1)
		}
		return location{s.uri(path), span{pos, pos}}
	}
	for _, other := range w.referencesTo(n) {
		if other.Declares {
			return location{s.uri(other.path), other.at}, nil
		}
	}
	if t := w.find(n.ID); n.What == tallyfile.OfTask && t != nil {
		return at(t.Origin("name")), nil
	}
	return nil, nil
}

func (s *Server) references(p *positionParams) (any, error) {
	n, w := s.nameAt(p)
	out := []location{}
	if n == nil {
		return out, nil
	}
	for _, other := range w.referencesTo(n) {
		if !other.Declares || p.Context.IncludeDeclaration {
			out = append(out, location{s.uri(other.path), other.at})
		}
	}
	return out, nil
}

func (s *Server) prepareRename(p *positionParams) (any, error) {
	n, w := s.nameAt(p)
	if n == nil || !w.renames(n) {
		return nil, nil
	}
	_, name := task.SplitID(n.ID)
	if n.What != tallyfile.OfTask {
		name = n.ID
	}
	return map[string]any{"range": n.at, "placeholder": name}, nil
}

// renames reports whether what is named is declared in a tally file.
func (w *space) renames(n *named) bool {
	return slices.ContainsFunc(w.referencesTo(n), func(o named) bool { return o.Declares })
}

func (s *Server) rename(p *positionParams) (any, error) {
	n, w := s.nameAt(p)
	if n == nil || !w.renames(n) {
		return nil, fault(invalidRename, "only what a tally file declares can have another name here")
	}
	if strings.TrimSpace(p.NewName) == "" || strings.ContainsAny(p.NewName, "\n\r\x00") {
		return nil, fault(invalidRename, "a name is one line of text")
	}
	edits := map[string][]textEdit{}
	for _, other := range w.referencesTo(n) {
		text := p.NewName
		switch {
		case other.Declares:
			text = tallyfile.KeyText(text)
		case other.What != tallyfile.OfTask:
			text = tallyfile.StringText(text)
		default:
			if before, _, ok := strings.Cut(other.Text, "#"); ok {
				id := task.MakeID("", p.NewName)
				text = before + id[strings.IndexByte(id, '#'):]
			} else {
				text = p.NewName
			}
			text = tallyfile.StringText(text)
		}
		uri := s.uri(other.path)
		edits[uri] = append(edits[uri], textEdit{other.at, text})
	}
	return map[string]any{"changes": edits}, nil
}

// invalidRename is the code of a request that failed though it was well formed (RequestFailed).
const invalidRename = -32803

func (s *Server) hover(p *positionParams) (any, error) {
	d, w, _ := s.tallyFile(p.TextDocument.URI)
	if d == nil {
		return nil, nil
	}
	if n, _ := s.nameAt(p); n != nil && n.What == tallyfile.OfTask {
		if t := w.find(n.ID); t != nil {
			text := "**" + printable.Text(t.ShownID()) + "**\n\n"
			if t.About != "" {
				text += printable.Text(t.About) + "\n\n"
			}
			return hover{markup{"markdown", text + "```sh\n" + printable.Text(t.Command.String()) + "\n```\n\nin `" + printable.Text(t.Dir) + "`"}, n.at}, nil
		}
	}
	line := d.line(p.Position.Line)
	at := spotAt(d.text, d.offset(position{p.Position.Line, len(line)}, utf8Units))
	if at.head {
		name, _, _ := strings.Cut(strings.Trim(strings.TrimSpace(line), "[]"), ".")
		if about, _, ok := tallyfile.TableKeys(strings.TrimSpace(name)); ok {
			return hover{markup{"markdown", about}, span{position{p.Position.Line, 0}, position{p.Position.Line, s.encoding.ofByte(line, len(line))}}}, nil
		}
		return nil, nil
	}
	if len(at.table) == 0 {
		return nil, nil
	}
	_, keys, _ := tallyfile.TableKeys(at.table[0])
	i := slices.IndexFunc(keys, func(k tallyfile.Key) bool { return k.Name == at.key })
	if i < 0 {
		return nil, nil
	}
	k := keys[i]
	text := "**" + k.Name + "**: " + k.Type + "\n\n" + k.About
	if len(k.Choices) > 0 {
		text += "\n\nIt may be: `" + strings.Join(k.Choices, "`, `") + "`"
	}
	if k.Default != "" {
		text += "\n\nDefault: " + k.Default
	}
	if k.Example != "" {
		text += "\n\n```toml\n" + k.Name + " = " + k.Example + "\n```"
	}
	return hover{markup{"markdown", text}, span{position{p.Position.Line, 0}, position{p.Position.Line, s.encoding.ofByte(line, len(line))}}}, nil
}

// Kinds of symbols.
const (
	symbolNamespace = 3
	symbolProperty  = 7
	symbolFunction  = 12
)

func (s *Server) symbols(p *documentParams) (any, error) {
	out := []documentSymbol{}
	d, _, _ := s.tallyFile(p.TextDocument.URI)
	if d == nil {
		return out, nil
	}
	root := datatext.ReadTOML([]byte(d.text), func(int, int, string) {})
	type head struct {
		name, detail string
		line         int
		node         *datatext.Node
	}
	var heads []head
	_, hasName := tallyfile.Tables()
	for _, table := range root.Entries {
		if !hasName[table.Key] {
			heads = append(heads, head{table.Key, "", table.Line, table.Value})
			continue
		}
		for _, e := range table.Value.Entries {
			heads = append(heads, head{e.Key, table.Key, e.Line, e.Value})
		}
	}
	slices.SortStableFunc(heads, func(a, b head) int { return a.line - b.line })
	whole := func(line int) span {
		return span{position{line, 0}, position{line, s.encoding.ofByte(d.line(line), len(d.line(line)))}}
	}
	for i, h := range heads {
		line := max(0, h.line-1)
		r := whole(line)
		last := len(d.starts) - 1
		if i+1 < len(heads) {
			last = max(line, heads[i+1].line-2)
		}
		symbol := documentSymbol{Name: printable.Text(h.name), Detail: h.detail, Kind: symbolFunction, SelectionRange: r, Range: span{r.Start, whole(last).End}}
		if h.detail != "task" {
			symbol.Kind = symbolNamespace
		}
		if symbol.Name == "" {
			symbol.Name = "…" // an empty one is not allowed
		}
		for _, e := range h.node.Entries {
			if at := e.Line - 1; at > line && at <= last && e.Key != "" {
				symbol.Children = append(symbol.Children, documentSymbol{Name: printable.Text(e.Key), Kind: symbolProperty, Range: whole(at), SelectionRange: whole(at)})
			}
		}
		out = append(out, symbol)
	}
	return out, nil
}

func (s *Server) format(p *documentParams) (any, error) {
	d, _, _ := s.tallyFile(p.TextDocument.URI)
	if d == nil {
		return nil, nil
	}
	text, err := tallyfile.Format([]byte(d.text))
	if err != nil {
		return nil, fault(invalidRename, "%v", err)
	}
	if string(text) == d.text {
		return []textEdit{}, nil
	}
	return []textEdit{{span{position{0, 0}, d.position(len(d.text), s.encoding)}, string(text)}}, nil
}
