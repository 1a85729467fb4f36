package editorfile

import (
	"fmt"
	"path"
	"regexp"
	"runtime"
	"slices"
	"strings"
	"time"

	"tidytally/core/datatext"
	"tidytally/core/reader/declare"
	"tidytally/core/tallyfile"
	"tidytally/core/task"
	"tidytally/internal/lazyregexp"
)

// Task files of editors. No editor is known here: a file counts by where it
// stands and what it is called, and an entry by what it is: something with a
// name and a command. What its other keys mean follows from their words
// (editorwords.go), and so do the placeholders in its values
// (editorplaceholders.go).

const (
	// maxEditorFile is how many bytes of such a file are read.
	maxEditorFile = 1 << 20
	// maxEditorTasks bounds the tasks of one file.
	maxEditorTasks = 2000
)

// Wants reports by its name whether a file may hold an editor's tasks.
func Wants(name string) bool {
	format := datatext.FormatOf(name)
	if format == "" {
		return false
	}
	for _, w := range wordsOf(stemOf(name)) {
		if fileWords[w] {
			return true
		}
	}
	return false
}

// InDotFolder reports whether a file of plain data is in a tool's own folder, such
// as ".x/y.json", or one below it.
func InDotFolder(dir, name string) bool {
	return strings.IndexByte(dir, '.') >= 0 && datatext.FormatOf(name) != "" && (dotFolder(path.Base(dir)) || dotFolder(path.Base(path.Dir(dir))))
}

func dotFolder(name string) bool { return len(name) > 1 && name[0] == '.' && name != ".." }

// stemOf is a file's name without leading dots and without its end.
func stemOf(name string) string {
	base := strings.TrimLeft(path.Base(name), ".")
	return strings.TrimSuffix(base, path.Ext(base))
}

func Read(f *declare.File) (found declare.Found) {
	if len(f.Data) > maxEditorFile {
		if Wants(path.Base(f.Path)) {
			found.Faults = append(found.Faults, task.Fault{File: f.Path, Message: fmt.Sprintf("%d bytes; a task file of an editor is read up to %d", len(f.Data), maxEditorFile)})
		}
		return found
	}
	format := datatext.FormatOf(f.Path)
	if format == "" || !Wants(path.Base(f.Path)) && !mayHoldTasks(f.Data) {
		return found
	}
	var faults []task.Fault
	root := datatext.Read(format, f.Data, func(line, column int, message string) {
		faults = append(faults, task.Fault{File: f.Path, Line: line, Column: column, Message: message})
	})
	// A mistake is a fault only where a task file was meant.
	if Wants(path.Base(f.Path)) {
		found.Faults = faults
	}
	if root == nil || foreignFile(root) || integrates(f.Path) {
		return found
	}
	r := &editorReader{file: f, found: &found, base: baseOf(f.Path), byName: map[string]*task.Task{}}
	r.root(root)
	r.link()
	if len(found.Tasks) > 0 {
		found.Faults = append(faults, found.Faults[min(len(faults), len(found.Faults)):]...)
	}
	return found
}

// integrationWords are words of folders and files that tell a server what to do with each
// change, which is nothing that a person runs here.
var integrationWords = setOf("ci cicd pipeline pipelines workflow workflows")

// integrates reports by its path whether a file is configuration of continuous integration.
func integrates(file string) bool {
	for _, part := range strings.Split(file, "/") {
		for _, w := range wordsOf(part) {
			if integrationWords[w] || strings.HasSuffix(w, "ci") && len(w) > 4 && part[0] == '.' {
				return true
			}
		}
	}
	return false
}

// foreignFile reports by the keys of its outermost table whether a file has another
// purpose.
func foreignFile(root *datatext.Node) bool {
	for _, e := range root.Entries {
		if foreignKeys[joined(e.Key)] {
			return true
		}
	}
	return false
}

// mayHoldTasks is a cheap look for a word that a command follows.
func mayHoldTasks(data []byte) bool {
	lower := strings.ToLower(string(data))
	for w := range meanings {
		if meanings[w] == meansCommand && strings.Contains(lower, w) {
			return true
		}
	}
	return false
}

// baseOf is the folder that an editor's task file speaks of: the one that holds
// the folder with the dot.
func baseOf(file string) string {
	dir := path.Dir(file)
	if path.IsAbs(file) {
		return "." // the user's own: for every workspace
	}
	for _, d := range []string{dir, path.Dir(dir)} {
		if dotFolder(path.Base(d)) {
			return path.Dir(d)
		}
	}
	return dir
}

type editorReader struct {
	file   *declare.File
	found  *declare.Found
	base   string
	byName map[string]*task.Task
	wanted []wanted
}

// wanted is a task that another one names.
type wanted struct {
	by   *task.Task
	name string
	with bool
	at   task.Origin
}

// root looks at the outermost value of a file.
func (r *editorReader) root(n *datatext.Node) {
	evident := r.evidentPath()
	switch n.Kind {
	case datatext.List:
		r.list(n, evident)
	case datatext.Table:
		if datatext.FormatOf(r.file.Path) == datatext.XML && len(n.Entries) == 1 {
			// The outermost element tells what the file is.
			only := n.Entries[0]
			evident = evident || isTaskWord(only.Key)
			if only.Value.Kind != datatext.Table || deniedContainer(only.Key) {
				return
			}
			n = only.Value
		}
		e := r.read(n, nil)
		if r.isFileCommand(e, evident) {
			e.name = orStem(e.name, r.file.Path)
			r.add(e, n.Line)
			return
		}
		r.table(n, evident, 0)
	}
}

// evidentPath reports whether the name of the file, or of a folder below the one
// with the dot, promises tasks.
func (r *editorReader) evidentPath() bool {
	parts := []string{stemOf(r.file.Path)}
	for dir := path.Dir(r.file.Path); dir != "." && dir != "/"; dir = path.Dir(dir) {
		if dotFolder(path.Base(dir)) {
			break
		}
		parts = append(parts, path.Base(dir))
	}
	for _, p := range parts {
		for _, w := range wordsOf(p) {
			if fileWords[w] {
				return true
			}
		}
	}
	return false
}

// isFileCommand reports whether the file as a whole is one command.
func (r *editorReader) isFileCommand(e *editorEntry, evident bool) bool {
	if !e.runs() || e.denied {
		return false
	}
	if len(e.verbs) > 0 && e.command == nil {
		return evident || e.verbKeys || e.name != "" || e.details > 0
	}
	return evident || len(e.variants) > 0 || e.details > 1 || e.name != "" && e.details > 0
}

// orStem returns a name, or the file's own if there is none.
func orStem(name, file string) string {
	if name == "" {
		return stemOf(file)
	}
	return name
}

// maxEditorDepth bounds how deep entries are looked for.
const maxEditorDepth = 8

// table looks for entries in a table: lists of them, and tables of them by
// name.
func (r *editorReader) table(n *datatext.Node, evident bool, depth int) {
	if depth > maxEditorDepth {
		return
	}
	for _, e := range n.Entries {
		if deniedContainer(e.Key) {
			continue
		}
		clear := evident || isTaskWord(e.Key)
		switch e.Value.Kind {
		case datatext.List:
			r.list(e.Value, clear)
		case datatext.Table:
			switch {
			case r.one(e.Value, clear):
			case r.byKeys(e.Value, clear, isTaskWord(e.Key)):
			default:
				r.table(e.Value, clear, depth+1)
			}
		}
	}
}

// one reads a table that is a single entry with its own name.
func (r *editorReader) one(n *datatext.Node, evident bool) bool {
	e := r.read(n, nil)
	if e.verbKeys && !e.denied { // what its verbs are called needs no other name
		e.name = orStem(e.name, r.file.Path)
		r.add(e, n.Line)
		return true
	}
	if e.name == "" || !e.runs() || e.denied || !(evident || e.details > 0) {
		return false
	}
	r.add(e, n.Line)
	return true
}

// list reads a list of entries.
func (r *editorReader) list(n *datatext.Node, evident bool) {
	if named := namedItems(n); named != nil {
		r.byKeys(named, evident, evident)
		return
	}
	var entries []*editorEntry
	good, details := 0, 0
	for _, item := range n.Items {
		if item.Kind != datatext.Table {
			return
		}
		e := r.read(item, nil)
		if e.denied {
			return
		}
		if e.name != "" && e.runs() {
			good++
			details += e.details
		}
		entries = append(entries, e)
	}
	if good == 0 || good*2 < len(entries) && !evident || !evident && details == 0 {
		if evident {
			for _, item := range n.Items {
				r.table(item, evident, maxEditorDepth)
			}
		}
		return
	}
	for i, e := range entries {
		r.add(e, n.Items[i].Line)
	}
}

// namedItems returns a list whose items have a single key each, the name, as a
// table; nil for other lists.
func namedItems(n *datatext.Node) *datatext.Node {
	named := &datatext.Node{Kind: datatext.Table, Line: n.Line, Column: n.Column}
	for _, item := range n.Items {
		if len(item.Entries) != 1 {
			return nil
		}
		only := item.Entries[0]
		if only.Value.Kind != datatext.Table || meaningOf(only.Key) != meansUnknown && !isVerb(only.Key) || deniedContainer(only.Key) || named.Get(only.Key) != nil {
			return nil
		}
		named.Entries = append(named.Entries, only)
	}
	return named
}

// byKeys reads a table of entries whose keys are their names.
func (r *editorReader) byKeys(n *datatext.Node, evident, named bool) bool {
	if len(n.Entries) == 0 {
		return false
	}
	var entries []*editorEntry
	good, details, plain := 0, 0, 0
	for _, x := range n.Entries {
		switch x.Value.Kind {
		case datatext.Text, datatext.List:
			// name = "command", if the table is one of tasks.
			if !named || x.Value.Kind == datatext.List && !allText(x.Value) || x.Value.Kind == datatext.Text && !runnable(x.Value) {
				return false
			}
			plain++
			command := x.Value
			entries = append(entries, &editorEntry{name: x.Key, command: command, commandKey: x.Key})
		case datatext.Table:
			e := r.read(x.Value, nil)
			if e.denied {
				return false
			}
			if e.runs() {
				good++
				details += e.details
			}
			if e.name == "" || e.weakName {
				e.name, e.line = x.Key, x.Line
			}
			entries = append(entries, e)
		default:
			return false
		}
	}
	if good+plain == 0 || good+plain < len(entries)-countBefore(entries) || !evident && (details == 0 || plain > 0) {
		return false
	}
	if plain > 0 && meansSomething(n) {
		return false // keys of one entry, not names of several
	}
	for i, e := range entries {
		r.add(e, n.Entries[i].Line)
	}
	return true
}

// countBefore counts the entries that only gather others.
func countBefore(entries []*editorEntry) (n int) {
	for _, e := range entries {
		if !e.runs() && e.gathers() {
			n++
		}
	}
	return n
}

// meansSomething reports whether a table's keys are those of an entry.
func meansSomething(n *datatext.Node) bool {
	for _, e := range n.Entries {
		switch m := meaningOf(e.Key); {
		case m == meansCommand && !isVerb(e.Key), m == meansFolder, m == meansEnv, m == meansArgs, m == meansName:
			return true
		}
	}
	return false
}

func allText(n *datatext.Node) bool {
	for _, item := range n.Items {
		if item.Kind != datatext.Text {
			return false
		}
	}
	return len(n.Items) > 0
}

// editorEntry holds the values of one entry by their meaning.
type editorEntry struct {
	name        string
	line        int  // of the name; 0 where the entry has none of its own
	weakName    bool // an id, which another name goes before
	command     *datatext.Node
	commandKey  string
	rank        int // of the command's key among those that may hold it
	args        *datatext.Node
	shell       *datatext.Node
	dir         *datatext.Node
	env         []*datatext.Node
	envFile     *datatext.Node
	path        *datatext.Node
	about       *datatext.Node
	kind        *datatext.Node
	usual       *datatext.Node
	longRunning *datatext.Node
	files       *datatext.Node
	show        *datatext.Node
	ready       *datatext.Node
	timeout     *datatext.Node
	order       *datatext.Node
	before      []*datatext.Node
	with        []*datatext.Node
	output      []*datatext.Node // expressions, or tables with one and the numbers of its groups
	verbs       []datatext.Entry
	verbKeys    bool // the verbs are parts of keys, which says enough of what they are
	variants    []datatext.Entry
	unread      []datatext.Entry
	details     int // how many keys say what only a task has
	denied      bool
	deniedBy    []string // the keys for which it is denied
}

// runs reports whether there is something to execute. A word such as "view.open"
// alone is a command of the editor itself.
func (e *editorEntry) runs() bool {
	if len(e.verbs) > 0 {
		return true
	}
	return e.command != nil && !(e.args == nil && e.dir == nil && e.command.Kind == datatext.Text && dottedName().MatchString(e.command.Text) && !programEnds[path.Ext(e.command.Text)])
}

// gathers reports whether the entry names other tasks.
func (e *editorEntry) gathers() bool {
	for _, n := range append(slices.Clip(e.before), e.with...) {
		if len(namesFrom(n)) > 0 {
			return true
		}
	}
	return false
}

var (
	dottedName  = lazyregexp.New(`^[A-Za-z][\w-]*([.:][A-Za-z][\w-]*)+$`)
	programEnds = setOf(".sh .bash .py .js .mjs .ts .rb .pl .php .lua .exe .cmd .bat .ps1 .bin .out .elf .jar")
)

// read reads the keys of an entry, over the values that it inherits.
func (r *editorReader) read(n *datatext.Node, parent *editorEntry) *editorEntry {
	e := &editorEntry{}
	if parent != nil {
		*e = *parent
		e.name, e.line, e.verbs, e.variants, e.unread, e.details = "", 0, nil, nil, nil, 0
		e.rank = 99 // a command of its own goes before
	}
	r.keys(e, n, 0)
	if parent == nil {
		r.verbs(e, n)
		r.namedLists(e, n)
	}
	// What has a name and a command of its own is a task, whatever steps it describes.
	if e.denied && e.name != "" && e.command != nil && !slices.ContainsFunc(e.deniedBy, func(key string) bool { return key != "steps" && key != "stages" }) {
		e.denied = false
	}
	return e
}

// namedLists takes lists of named commands in an entry that has a command of its own for
// its variants, whatever their key is called.
func (r *editorReader) namedLists(e *editorEntry, n *datatext.Node) {
	if e.command == nil {
		return
	}
	for _, x := range n.Entries {
		m := meaningOf(x.Key)
		if x.Value.Kind != datatext.List || m != meansUnknown && m != meansCommand || deniedContainer(x.Key) || !namedCommands(x.Value) {
			continue
		}
		e.variants = append(e.variants, x)
		e.details++
		e.unread = slices.DeleteFunc(e.unread, func(u datatext.Entry) bool { return u.Key == x.Key })
	}
}

// namedCommands reports whether each element of a list has a name and a command.
func namedCommands(list *datatext.Node) bool {
	for _, item := range list.Items {
		if item.Kind != datatext.Table || !runnable(item) || !slices.ContainsFunc(item.Entries, func(x datatext.Entry) bool {
			return meaningOf(x.Key) == meansName && x.Value.Scalar() && x.Value.Text != ""
		}) {
			return false
		}
	}
	return len(list.Items) > 0
}

// keys reads the keys of a table and of the tables nested in it.
func (r *editorReader) keys(e *editorEntry, n *datatext.Node, depth int) {
	var own []datatext.Entry
	verbs := verbTable(n)
	for _, x := range n.Entries {
		key := joined(x.Key)
		if deniedKeys[key] && !(key == "steps" && allText(x.Value)) {
			e.denied, e.deniedBy = true, append(e.deniedBy, key)
		}
		if verbs && x.Value.Kind == datatext.Table && isVerb(x.Key) {
			continue // each is read for itself
		}
		system, isSystem := systems[key]
		switch {
		case isSystem && x.Value.Kind == datatext.Table:
			if slices.Contains(strings.Fields(system), runtime.GOOS) {
				own = append(own, x)
			}
			continue
		case isSystem && slices.Contains(strings.Fields(system), runtime.GOOS) && x.Value.Kind != datatext.Null:
			own = append(own, datatext.Entry{Key: "command", Line: x.Line, Column: x.Column, Value: &datatext.Node{Kind: datatext.Table, Entries: []datatext.Entry{{Key: "command", Line: x.Line, Column: x.Column, Value: x.Value}}}})
			continue
		case isSystem:
			continue
		}
		r.key(e, x, depth)
	}
	// Values for this system override those for all.
	for _, x := range own {
		e.rank = 99
		r.keys(e, x.Value, depth+1)
	}
}

func (r *editorReader) key(e *editorEntry, x datatext.Entry, depth int) {
	v := x.Value
	nested := v.Kind == datatext.Table
	detail := func(to **datatext.Node) {
		*to = v
		e.details++
	}
	switch m := meaningOf(x.Key); {
	case v.Kind == datatext.Null:
	case m == meansName && v.Scalar():
		weak := joined(x.Key) == "id"
		if v.Text != "" && (e.name == "" || e.weakName && !weak) && depth == 0 {
			e.name, e.weakName, e.line = v.Text, weak, x.Line
		}
	case m == meansCommand && v.Kind == datatext.Boolean:
		e.shell = v
	case m == meansCommand && nested && runnable(v) && depth < 3 && !verbTable(v):
		r.keys(e, v, depth+1)
	case m == meansCommand && nested && joined(x.Key) == "shell" && !entriesRun(v):
		e.shell = v
	case m == meansCommand && !nested && runnable(v):
		rank := commandRank(x.Key)
		switch {
		case e.command == nil || rank < e.rank:
			if e.command != nil && joined(e.commandKey) == "shell" {
				e.shell = e.command
			}
			e.command, e.commandKey, e.rank = v, x.Key, rank
		case joined(x.Key) == "shell":
			e.shell = v
		}
	case m == meansArgs && !nested:
		detail(&e.args)
	case m == meansFolder && v.Kind == datatext.Text:
		detail(&e.dir)
	case m == meansEnv && (nested || v.Kind == datatext.List):
		e.env = append(e.env, v)
		e.details++
	case m == meansEnvFile && v.Kind == datatext.Text:
		detail(&e.envFile)
	case m == meansPath && !nested:
		detail(&e.path)
	case m == meansAbout && v.Kind == datatext.Text:
		e.about = v
	case m == meansKind && v.Kind == datatext.Text:
		detail(&e.kind)
	case m == meansUsual && isTruth(v):
		detail(&e.usual)
	case m == meansLongRunning && isTruth(v):
		detail(&e.longRunning)
	case m == meansFiles && !nested:
		detail(&e.files)
	case m == meansShow && !nested && v.Kind != datatext.List:
		detail(&e.show)
	case m == meansReady && v.Kind == datatext.Text:
		detail(&e.ready)
	case m == meansTimeout && v.Scalar():
		detail(&e.timeout)
	case m == meansOrder && v.Kind == datatext.Text:
		e.order = v
	case m == meansBefore && !nested:
		e.before = append(e.before, v)
		e.details++
	case m == meansWith && !nested && v.Kind != datatext.Boolean:
		e.with = append(e.with, v)
		e.details++
	case m == meansOutput && (v.Kind == datatext.Text || v.Kind == datatext.List || nested):
		e.output = append(e.output, v)
		e.details++
	case m == meansVariants && (nested || v.Kind == datatext.List):
		e.variants = append(e.variants, x)
		e.details++
	case m == meansNothing:
	case nested && depth < 3 && !runnable(v) && !entriesRun(v) && !deniedContainer(x.Key):
		r.keys(e, v, depth+1)
	case nested && (runnable(v) || entriesRun(v)):
		// Not of this entry: it is looked at for itself.
	case isVerb(x.Key):
	default:
		e.unread = append(e.unread, x)
	}
}

// verbs finds the commands of an entry that has several, each under a verb.
func (r *editorReader) verbs(e *editorEntry, n *datatext.Node) {
	take := func(t *datatext.Node) bool {
		if !verbTable(t) {
			return false
		}
		for _, x := range t.Entries {
			if isVerb(x.Key) && runnable(x.Value) {
				e.verbs = append(e.verbs, x)
			}
		}
		if joined(e.commandKey) == "run" || e.rank > commandRank("run") {
			e.command = nil
		}
		return true
	}
	if take(n) {
		return
	}
	if verbs := verbCommands(n); verbs != nil {
		e.verbs, e.verbKeys = verbs, true
		if verbOf(e.commandKey) != "" {
			e.command = nil
		}
		return
	}
	for _, x := range n.Entries {
		if x.Value.Kind == datatext.Table && (meaningOf(x.Key) == meansCommand || isTaskWord(x.Key)) && take(x.Value) {
			return
		}
	}
}

// commandWords end keys that hold the command of a verb: buildCommand, run_cmd.
var commandWords = setOf("command cmd commandline")

// verbOf returns the verb of a key made of a verb and a word for a command; "" for other
// keys.
func verbOf(key string) string {
	words := wordsOf(key)
	if n := len(words) - 1; n > 0 && commandWords[words[n]] && verbWords[strings.Join(words[:n], "")] {
		return strings.Join(words[:n], "-")
	}
	return ""
}

// verbCommands returns the commands of a table with two or more keys such as buildCommand,
// by their verbs; nil if it has fewer.
func verbCommands(n *datatext.Node) (verbs []datatext.Entry) {
	for _, x := range n.Entries {
		if verb := verbOf(x.Key); verb != "" && runnable(x.Value) {
			x.Key = verb
			verbs = append(verbs, x)
		}
	}
	if len(verbs) < 2 {
		return nil
	}
	return verbs
}

// verbTable reports whether a table has commands under two verbs or more.
func verbTable(n *datatext.Node) bool {
	if n.Kind != datatext.Table {
		return false
	}
	count := 0
	for _, x := range n.Entries {
		if isVerb(x.Key) && runnable(x.Value) {
			count++
		}
	}
	return count > 1
}

// runnable reports whether a value may be a command.
func runnable(v *datatext.Node) bool {
	switch v.Kind {
	case datatext.Text:
		return strings.TrimSpace(v.Text) != ""
	case datatext.List:
		for _, item := range v.Items {
			if !item.Scalar() && !allText(item) && valueText(item) == "" {
				return false
			}
		}
		return len(v.Items) > 0
	case datatext.Table:
		for _, x := range v.Entries {
			if k := x.Value.Kind; meaningOf(x.Key) == meansCommand && (k == datatext.Text || k == datatext.List || k == datatext.Table) {
				return true
			}
		}
	}
	return false
}

// entriesRun reports whether there are commands in the tables of a table.
func entriesRun(n *datatext.Node) bool {
	for _, x := range n.Entries {
		if x.Value.Kind == datatext.Table && (runnable(x.Value) || verbTable(x.Value)) {
			return true
		}
	}
	return false
}

// truth returns a value as a boolean.
func truth(n *datatext.Node) bool {
	switch strings.ToLower(n.Text) {
	case "true", "yes", "on", "1":
		return true
	}
	return false
}

func isTruth(n *datatext.Node) bool {
	switch strings.ToLower(n.Text) {
	case "true", "yes", "on", "1", "false", "no", "off", "0":
		return n.Scalar()
	}
	return false
}

// add makes the tasks of an entry: one, or one for each of its verbs and
// variants.
func (r *editorReader) add(e *editorEntry, line int) {
	if e.line > 0 {
		line = e.line
	}
	if e.name == "" {
		r.fault(line, "an entry without a name")
		return
	}
	if e.command == nil && len(e.verbs) == 0 && !e.gathers() && len(e.variants) == 0 {
		r.fault(line, fmt.Sprintf("%q has no command that is understood", e.name))
		return
	}
	name := e.name
	for _, verb := range e.verbs {
		inner := *e
		if verb.Value.Kind == datatext.Table {
			inner = *r.read(verb.Value, e)
		} else {
			inner.command, inner.commandKey, inner.rank, inner.args = verb.Value, verb.Key, 0, nil
		}
		inner.name = name + " " + verb.Key
		if name == "" || name == stemOf(r.file.Path) {
			inner.name = verb.Key
		}
		t := r.make(&inner, verb.Line)
		if t != nil && e.kind == nil {
			t.Kind = task.KindOf(verb.Key)
		}
	}
	if len(e.verbs) == 0 && (e.command != nil || e.gathers()) {
		r.make(e, line)
	}
	for _, v := range e.variants {
		r.variants(e, v)
	}
}

func (r *editorReader) variants(e *editorEntry, in datatext.Entry) {
	take := func(name string, n *datatext.Node, line int) {
		v := r.read(n, e)
		if v.name == "" {
			v.name = name
		}
		if v.name == "" || v.denied {
			r.fault(line, fmt.Sprintf("a variant of %q without a name", e.name))
			return
		}
		v.name = e.name + " " + v.name
		if v.line > 0 {
			line = v.line
		}
		if v.command != nil || v.gathers() {
			r.make(v, line)
		}
	}
	for _, item := range in.Value.Items {
		if item.Kind == datatext.Table {
			take("", item, item.Line)
		}
	}
	for _, x := range in.Value.Entries {
		switch x.Value.Kind {
		case datatext.Table:
			take(x.Key, x.Value, x.Line)
		case datatext.Text, datatext.List:
			v := *e
			v.name, v.command, v.args, v.unread = e.name+" "+x.Key, x.Value, nil, nil
			r.make(&v, x.Line)
		}
	}
}

func (r *editorReader) fault(line int, message string) {
	r.found.Faults = append(r.found.Faults, task.Fault{File: r.file.Path, Line: line, Message: message + "; the other entries were read"})
}

func (r *editorReader) origin(n *datatext.Node) task.Origin {
	return task.Origin{File: r.file.Path, Line: n.Line, Column: n.Column, Manner: task.Declared}
}

// make makes a task of an entry.
func (r *editorReader) make(e *editorEntry, line int) *task.Task {
	if len(r.found.Tasks) >= maxEditorTasks {
		if len(r.found.Tasks) == maxEditorTasks {
			r.fault(line, fmt.Sprintf("more than %d tasks; the rest was left out", maxEditorTasks))
		}
		return nil
	}
	name := e.name
	for n := 2; r.byName[name] != nil; n++ {
		name = fmt.Sprintf("%s %d", e.name, n)
	}
	t := &task.Task{
		Name: name, Source: "editor", File: r.file.Path, Line: line, Manner: task.Declared,
		Dir: r.base, Kind: task.KindOf(name),
	}
	p := &placeholders{root: r.file.Root(), own: map[string]bool{}}
	set := func(field string, n *datatext.Node) { t.SetOrigin(field, r.origin(n)) }
	for _, n := range e.env {
		r.environment(t, n, p)
		set("env", n)
	}
	if e.command != nil {
		if t.Command = commandFrom(e, p); strings.TrimSpace(t.Command.String()) == "" {
			r.fault(line, fmt.Sprintf("the command of %q is empty", e.name))
			return nil
		}
		set("command", e.command)
	}
	if e.dir != nil {
		dir := p.text(e.dir.Text, false)
		if strings.ContainsAny(dir, "$%") { // a part of it was not understood: none of it counts
			dir = p.ask("folder")
		}
		t.Dir = r.folder(dir)
		set("dir", e.dir)
	}
	if e.envFile != nil {
		t.EnvFile = path.Join(r.base, e.envFile.Text)
		set("env_file", e.envFile)
	}
	if e.path != nil {
		if t.Env == nil {
			t.Env = map[string]string{}
		}
		var dirs []string
		for _, d := range textsOf(e.path, ":") {
			dirs = append(dirs, p.text(d, false))
		}
		t.Env["PATH"] = strings.Join(append(dirs, "{env.PATH}"), ":")
		set("env", e.path)
	}
	if e.about != nil {
		t.About = declare.Shorten(e.about.Text)
		set("about", e.about)
	}
	if e.kind != nil {
		if k := kindFrom(e.kind.Text); k != "" {
			t.Kind = k
			set("kind", e.kind)
		}
	}
	t.LongRunning = task.LongRunningOf(name, t.Command.String())
	if e.longRunning != nil {
		t.LongRunning = truth(e.longRunning)
		set("longRunning", e.longRunning)
	}
	if e.usual != nil && truth(e.usual) {
		t.Default = true
		set("default", e.usual)
	}
	if e.files != nil {
		t.For = globsFrom(textsOf(e.files, ","))
		set("for", e.files)
	}
	if e.show != nil {
		t.Show = showFrom(e.show.Text)
		set("show", e.show)
	}
	if e.ready != nil {
		if _, err := regexp.Compile(e.ready.Text); err != nil {
			r.fault(e.ready.Line, fmt.Sprintf("%q: %v", name, err))
		} else {
			t.Ready, t.LongRunning = e.ready.Text, true
			set("ready", e.ready)
		}
	}
	if e.timeout != nil {
		text := e.timeout.Text
		if e.timeout.Kind != datatext.Text {
			text += "s"
		}
		if d, err := time.ParseDuration(text); err == nil && d > 0 {
			t.Timeout = text
			set("timeout", e.timeout)
		}
	}
	for i, n := range e.output {
		r.sieve(t, n, i)
	}
	for _, x := range e.unread {
		o := r.origin(&datatext.Node{Line: x.Line, Column: x.Column})
		o.Note = x.Key
		t.Unread = append(t.Unread, o)
	}
	for _, name := range p.unknown {
		t.Args = append(t.Args, task.Arg{Name: name, About: "a placeholder that is not known here: give it a value"})
	}
	for _, name := range p.asked {
		t.Args = append(t.Args, task.Arg{Name: name, About: "asked for at each run"})
	}
	beside := e.order != nil && strings.Contains(joined(e.order.Text), "together")
	for _, list := range []struct {
		nodes []*datatext.Node
		with  bool
	}{{e.before, beside}, {e.with, true}} {
		for _, n := range list.nodes {
			for _, name := range namesFrom(n) {
				r.wanted = append(r.wanted, wanted{t, name, list.with, r.origin(n)})
			}
		}
	}
	r.byName[name] = t
	r.found.Tasks = append(r.found.Tasks, t)
	return t
}

// link finds the tasks that others name.
func (r *editorReader) link() {
	for _, w := range r.wanted {
		other := r.byName[w.name]
		for name, t := range r.byName {
			if other == nil && strings.EqualFold(name, w.name) {
				other = t
			}
		}
		if other == nil || other == w.by {
			w.at.Note = fmt.Sprintf("%q, which is no task of this file", w.name)
			w.by.Unread = append(w.by.Unread, w.at)
			continue
		}
		if w.with {
			w.by.With = append(w.by.With, other.ID())
			w.by.SetOrigin("with", w.at)
			continue
		}
		w.by.Before = append(w.by.Before, other.ID())
		w.by.Prerequisites = append(w.by.Prerequisites, other.ID())
		w.by.SetOrigin("needs", w.at)
	}
}

// folder returns the folder that an entry names.
func (r *editorReader) folder(text string) string {
	switch rest, atRoot := strings.CutPrefix(text, "{root}"); {
	case atRoot && strings.Trim(rest, "/") == "":
		return "."
	case atRoot && strings.HasPrefix(rest, "/") && !strings.Contains(rest, "{"):
		return path.Clean(strings.Trim(rest, "/"))
	case strings.Contains(text, "{"), path.IsAbs(text):
		return text
	}
	if home, ok := strings.CutPrefix(text, "~/"); ok {
		return "{env.HOME}/" + home
	}
	return path.Join(r.base, text)
}

func (r *editorReader) environment(t *task.Task, n *datatext.Node, p *placeholders) {
	if t.Env == nil {
		t.Env = map[string]string{}
	}
	put := func(name, value string) {
		if name != "" {
			p.own[name] = true
			t.Env[name] = p.text(value, false)
		}
	}
	items := n.Items
	if n.Kind == datatext.Table && n.Get("name") != nil && n.Get("value") != nil {
		items = []*datatext.Node{n} // one, of a form that has lists of these
	}
	for _, x := range n.Entries {
		if x.Value.Scalar() && len(items) == 0 {
			put(x.Key, x.Value.Text)
		}
	}
	for _, item := range items {
		switch item.Kind {
		case datatext.Text:
			name, value, _ := strings.Cut(item.Text, "=")
			put(name, value)
		case datatext.Table:
			var name, value string
			for _, x := range item.Entries {
				switch joined(x.Key) {
				case "name", "key", "variable":
					name = x.Value.Text
				case "value", "text":
					value = x.Value.Text
				}
			}
			put(name, value)
		}
	}
}

// sieve makes a sieve of an expression for a task's output. Its groups are
// identified by name, by the numbers given with it, or by their usual order.
func (r *editorReader) sieve(t *task.Task, n *datatext.Node, nth int) {
	expression, groups := n, map[string]int{}
	switch n.Kind {
	case datatext.List:
		for i, item := range n.Items {
			r.sieve(t, item, nth+i)
		}
		return
	case datatext.Table:
		expression = nil
		for _, x := range n.Entries {
			field := ""
			for _, w := range append(wordsOf(x.Key), joined(x.Key)) {
				if problemFields[w] != "" {
					field = problemFields[w]
				}
			}
			switch {
			case x.Value.Kind == datatext.Integer && field != "":
				k := 0
				if _, err := fmt.Sscan(x.Value.Text, &k); err == nil {
					groups[field] = k
				}
			case x.Value.Kind == datatext.Text && meaningOf(x.Key) == meansOutput:
				expression = x.Value
			case (x.Value.Kind == datatext.Table || x.Value.Kind == datatext.List) && meaningOf(x.Key) == meansOutput:
				r.sieve(t, x.Value, nth)
			}
		}
		if expression == nil {
			return
		}
	}
	if expression.Kind != datatext.Text || !strings.Contains(expression.Text, "(") {
		o := r.origin(expression)
		o.Note = expression.Text
		t.Unread = append(t.Unread, o)
		return
	}
	re, err := regexp.Compile(namedGroups(expression.Text, groups))
	if err != nil {
		o := r.origin(expression)
		o.Note = fmt.Sprintf("an expression that is none in RE2's syntax: %v", err)
		t.Unread = append(t.Unread, o)
		return
	}
	name := t.ID()
	if nth > 0 {
		name = fmt.Sprintf("%s %d", name, nth+1)
	}
	r.found.Sieves = append(r.found.Sieves, tallyfile.Sieve{Name: name, Private: true, Lines: []tallyfile.SieveLine{{Match: re}}})
	if len(t.Sieves) == 0 {
		t.Sieves = []string{tallyfile.AllSieves}
	}
	t.Sieves = append(t.Sieves[:len(t.Sieves)-1:len(t.Sieves)-1], name, tallyfile.AllSieves)
	t.SetOrigin("sieves", r.origin(expression))
}

// namesFrom returns the names of tasks in a value: one, a list, or tables that have
// one.
func namesFrom(n *datatext.Node) (names []string) {
	switch n.Kind {
	case datatext.Text:
		if n.Text != "" {
			names = append(names, n.Text)
		}
	case datatext.List:
		for _, item := range n.Items {
			names = append(names, namesFrom(item)...)
		}
	case datatext.Table:
		for _, x := range n.Entries {
			if meaningOf(x.Key) == meansName && x.Value.Scalar() {
				return []string{x.Value.Text}
			}
		}
	}
	return names
}

// textsOf returns the texts of a list, or of a text with a separator.
func textsOf(n *datatext.Node, separator string) (out []string) {
	if n.Kind == datatext.List {
		for _, item := range n.Items {
			if item.Scalar() && item.Text != "" {
				out = append(out, item.Text)
			}
		}
		return out
	}
	for _, s := range strings.Split(n.Text, separator) {
		if s = strings.TrimSpace(s); s != "" {
			out = append(out, s)
		}
	}
	return out
}
