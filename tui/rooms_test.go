package tui

import (
	"go/ast"
	"go/parser"
	"go/token"
	"os"
	"strings"
	"testing"

	"tidytally/core/task"
)

// A page that is added touches its own files and one line: the type of a page is
// named in its own files, and made in pages.go. Nobody else knows pages but by the
// interface, and by the names with which they ask to go to each other.
func TestEachPageHasItsRoom(t *testing.T) {
	entries, err := os.ReadDir(".")
	if err != nil {
		t.Fatal(err)
	}
	fset := token.NewFileSet()
	uses := map[string]map[string]int{} // files by identifier, with how often
	for _, e := range entries {
		name := e.Name()
		if !strings.HasSuffix(name, ".go") || strings.HasSuffix(name, "_test.go") {
			continue
		}
		f, err := parser.ParseFile(fset, name, nil, 0)
		if err != nil {
			t.Fatal(err)
		}
		ast.Inspect(f, func(n ast.Node) bool {
			if id, ok := n.(*ast.Ident); ok {
				if uses[id.Name] == nil {
					uses[id.Name] = map[string]int{}
				}
				uses[id.Name][name]++
			}
			return true
		})
	}
	m := open(t, map[string]string{})
	if len(m.pages) < 6 {
		t.Fatalf("only %d pages", len(m.pages))
	}
	for _, p := range m.pages {
		name := p.name()
		typ, maker := name+"Page", "new"+strings.ToUpper(name[:1])+name[1:]+"Page"
		if len(uses[typ]) == 0 || uses[maker]["pages.go"] != 1 {
			t.Errorf("%s: it should be the type %s, made by %s in one line of pages.go", name, typ, maker)
		}
		for file := range uses[typ] {
			if file != name+".go" && !strings.HasPrefix(file, name+"_") {
				t.Errorf("%s names the type %s", file, typ)
			}
		}
		for _, shell := range []string{"shell.go", "keys.go", "heading.go", "help.go", "choice.go", "page.go", "open.go"} {
			if uses[name+"Name"][shell] > 0 {
				t.Errorf("%s asks for the page %s by name", shell, name)
			}
		}
	}
}

// The keys that a tally file may give to a task are those of no page.
func TestNoPageHasTheKeysOfTasks(t *testing.T) {
	m := open(t, map[string]string{})
	for _, p := range m.pages {
		m.at = p
		for _, k := range m.allKeys() {
			for _, name := range k.names {
				if task.FitKey(name) {
					t.Errorf("%s is a key of the page %s: %s", name, p.name(), k.help)
				}
			}
		}
	}
}

// The README names each key of the pages.
func TestTheReadmeNamesEachKey(t *testing.T) {
	data, err := os.ReadFile("../README.md")
	if err != nil {
		t.Fatal(err)
	}
	readme := string(data)
	words := map[string]string{
		"esc": "esc clears", "up": "Arrows", "down": "Arrows", "left": "Arrows", "right": "Arrows", "pgup": "page up", "pgdown": "down", "home": "home", "end": "end",
		"shift+down": "shift with the arrows", "shift+up": "shift with the arrows", "ctrl+z": "ctrl+z takes back", "backspace": "", "delete": "", "ctrl+c": "",
	}
	m := open(t, map[string]string{})
	for _, p := range m.pages {
		m.at = p
		for _, k := range m.allKeys() {
			want, other := words[k.names[0]]
			if !other {
				want = "`" + k.names[0] + "`"
			}
			if strings.Contains("1234567", k.names[0]) {
				continue // they stand in the footing of their page
			}
			if !strings.Contains(readme, want) {
				t.Errorf("%s on %s: %s", k.names[0], p.name(), k.help)
			}
		}
	}
}

// kindsOfRows says what stands in the rows of each page.
var kindsOfRows = map[string]string{
	tasksName: "task", tallyName: "problem", outputName: "line", planName: "run", togetherName: "output", historyName: "run", filesName: "file", valuesName: "value", surveyName: "source",
	sieveName: "expression", draftName: "key", markName: "word",
}

// No page takes a key that works on all pages, and where two pages show rows of the same kind, a key means one thing on them.
func TestAKeyMeansOneThing(t *testing.T) {
	m := open(t, map[string]string{})
	anywhere := map[string]string{} // keys of all pages, with whose they are
	for _, p := range m.pages {
		if g := p.goes(); len(g.on) == 0 {
			for _, name := range g.names {
				anywhere[name] = "goes to " + p.name()
			}
		}
		for _, k := range p.keys() {
			if k.anywhere {
				for _, name := range k.names {
					anywhere[name] = p.name() + ", but for " + k.except
				}
			}
		}
	}
	for _, name := range []string{"x", "esc", "up", "down", "pgup", "pgdown", "space", "home", "end", "ctrl+z", "?", "q", "ctrl+c"} {
		anywhere[name] = "the shell"
	}
	meaning := map[string]string{} // by the kind of row and the key: the page, and the first words of the help
	for _, p := range m.pages {
		kind := kindsOfRows[p.name()]
		if kind == "" {
			t.Errorf("what stands in the rows of %s?", p.name())
		}
		for _, k := range p.keys() {
			if k.anywhere || len(k.on) > 0 {
				continue
			}
			for _, name := range k.names {
				if whose := anywhere[name]; whose != "" && !strings.HasSuffix(whose, "but for "+p.name()) {
					t.Errorf("%s takes %s, which works on all pages: %s", p.name(), name, whose)
				}
				words := strings.Join(strings.Fields(k.help)[:2], " ")
				if of, other := meaning[kind+" "+name]; other && of != words {
					t.Errorf("on rows of the kind %s, %s means %q, and %q on %s", kind, name, of, words, p.name())
				}
				meaning[kind+" "+name] = words
			}
		}
	}
}
