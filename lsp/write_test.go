package lsp

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"tidytally/internal/testtree"
)

// at returns the parameters of a request about a place of a file.
func at(uri string, line, character int) map[string]any {
	return map[string]any{"textDocument": map[string]any{"uri": uri}, "position": position{line, character}, "context": map[string]any{"includeDeclaration": true}}
}

// A word that is taken from those offered leaves the text so as its author would write it, wherever the
// cursor was: before a quote or within, at the end of the word or amid it, in a list that goes over lines.
func TestAWordThatIsTaken(t *testing.T) {
	root := tree(t, map[string]string{
		"tidytally.toml": "[task.fire]\nrun = \"true\"\n[task.\"two words\"]\nrun = \"true\"\n[via.kiln]\nrun = \"{command}\"\n[place.shed]\nrun = [\"ssh\", \"kiln-lab\"]\n[sieve.marks]\n[[sieve.marks.lines]]\nmatch = '^(?P<file>\\S+):(?P<line>\\d+): (?P<message>.*)$'\n",
		"Makefile":       "cone-six: ## Fire it\n\ttrue\n", "src/deep/x.c": "", "src/.hidden": "", "notes.txt": "", ".env": "",
	})
	c := connect(t, root)
	path := filepath.Join(root, "tidytally.toml")
	c.run(commandShow, root, "Makefile#cone-six") // the workspace is read
	for _, x := range []struct{ text, take, want string }{
		{"[task.a]\nbefore = [|]", "#fire", "[task.a]\nbefore = [\"#fire\"]"},
		{"[task.a]\nbefore = [\"#fi|\"]", "#fire", "[task.a]\nbefore = [\"#fire\"]"},
		{"[task.a]\nbefore = [\"#f|ire\"]", "#fire", "[task.a]\nbefore = [\"#fire\"]"},
		{"[task.a]\nbefore = [\"#fire\", '|']", "Makefile#cone-six", "[task.a]\nbefore = [\"#fire\", 'Makefile#cone-six']"},
		{"[task.a]\nbefore = [\n\t\"#fire\",\n\t\"con|\",\n]\n", "Makefile#cone-six", "[task.a]\nbefore = [\n\t\"#fire\",\n\t\"Makefile#cone-six\",\n]\n"},
		{"[task.a]\nbefore = [\n\t|\n]\nafter = []\n", "#fire", "[task.a]\nbefore = [\n\t\"#fire\"\n]\nafter = []\n"},
		{"[task.a]\nbefore = [\n\t\"#fire\"]\nvi|\n", "via", "[task.a]\nbefore = [\n\t\"#fire\"]\nvia = \"\"\n"},
		{"[task.a]\n  vi|x\n", "", ""},
		{"[task.a]\n  |vi\n", "via", "[task.a]\n  via = \"\"\n"},
		{"[task.a]\nvia = |", "kiln", "[task.a]\nvia = \"kiln\""},
		{"[task.a]\nvia = ki|ln\n", "kiln", "[task.a]\nvia = \"kiln\"\n"},
		{"[task.a]\nat = \"|\"\n", "shed", "[task.a]\nat = \"shed\"\n"},
		{"[task.a]\nsieves = [\"|\"]\n", "marks", "[task.a]\nsieves = [\"marks\"]\n"},
		{"[task.a]\nkind = \"te|\"\n", "test", "[task.a]\nkind = \"test\"\n"},
		{"[task.a]\nlong_running = |\n", "true", "[task.a]\nlong_running = true\n"},
		{"[task.a]\nin = \"|\"\n", "src/", "[task.a]\nin = \"src/\"\n"},
		{"[task.a]\nin = \"src/|\"\n", "src/deep/", "[task.a]\nin = \"src/deep/\"\n"},
		{"[task.a]\nin = \"|\"\n", "notes.txt", ""},
		{"[task.a]\nin = \"../|\"\n", "../", ""},
		{"[task.a]\nenv_file = \"|\"\n", ".env", "[task.a]\nenv_file = \".env\"\n"},
		{"[task.a]\nreads = [\"src/|\"]\n", "src/.hidden", ""},
		{"[workspace]\nusual = \"|\"\n", "tidytally.toml#fire", "[workspace]\nusual = \"tidytally.toml#fire\"\n"},
		{"[workspace]\nusual = \"|\"\n", "tidytally.toml#two%20words", "[workspace]\nusual = \"tidytally.toml#two%20words\"\n"},
		{"[workspace]\nlearn = [\"bu|\"]\n", "build", "[workspace]\nlearn = [\"build\"]\n"},
		{"[ta|", "task.", "[task."},
		{"[adjust.con|", "Makefile#cone-six", "[adjust.\"Makefile#cone-six\""},
		{"# via|\n", "via", ""},
		{"via|\n", "via", ""},
		{"[task.a]\n[nothing]\nvi|\n", "via", ""},
		{"[task.a]\nargs = [\n\t{ name = \"x\" },\n]\n# before = [\nvi|\n", "via", "[task.a]\nargs = [\n\t{ name = \"x\" },\n]\n# before = [\nvia = \"\"\n"},
	} {
		before, after, _ := strings.Cut(x.text, "|")
		uri := c.open(path, before+after)
		line := strings.Count(before, "\n")
		var list completionList
		c.ask("textDocument/completion", at(uri, line, len(before)-1-strings.LastIndexByte(before, '\n')), &list)
		got := ""
		var offered []string
		for _, item := range list.Items {
			offered = append(offered, item.Label)
			if item.Label == x.take {
				d := document{}
				d.set(before + after)
				d.change(&item.TextEdit.Range, item.TextEdit.NewText, utf16Units)
				got = d.text
			}
		}
		if got != x.want {
			t.Errorf("%q and %q taken: %q, want %q; offered are %q", x.text, x.take, got, x.want, offered)
		}
	}
}

// Hover explains a key with its type and choices, and a table by its name.
func TestWhatAWordMeans(t *testing.T) {
	text := "[task.a]\nkind = \"test\"\n'via' = \"x\"\nbefore = [\n\t\"#a\",\n]\n\n[nothing]\nkind = 1\n"
	root := tree(t, map[string]string{"tidytally.toml": text, "a.txt": ""})
	c := connect(t, root)
	uri := c.open(filepath.Join(root, "tidytally.toml"), text)
	c.run(commandShow, root, "tidytally.toml#a") // the workspace is read
	for _, x := range []struct {
		line, character int
		want            []string
	}{
		{0, 2, []string{"task"}}, {1, 1, []string{"**kind**", "It may be: `build`, `", "`test`"}}, {2, 2, []string{"**via**: a string"}}, {3, 3, []string{"**before**", "list"}}, {4, 3, []string{"**tidytally.toml#a**"}},
		{6, 0, nil}, {7, 2, nil}, {8, 1, nil},
	} {
		var h *hover
		c.ask("textDocument/hover", at(uri, x.line, x.character), &h)
		if (h != nil) != (x.want != nil) {
			t.Errorf("at %d:%d: %+v", x.line, x.character, h)
			continue
		}
		for _, part := range x.want {
			if !strings.Contains(h.Contents.Value, part) {
				t.Errorf("at %d:%d %q has no %q", x.line, x.character, h.Contents.Value, part)
			}
		}
		if h != nil && x.line != 4 && (h.Range.Start != position{x.line, 0} || h.Range.End.Line != x.line || h.Range.End.Character == 0) {
			t.Errorf("at %d:%d it stands at %+v", x.line, x.character, h.Range)
		}
	}
	var none *hover
	if c.ask("textDocument/hover", at(c.open(filepath.Join(root, "a.txt"), "kind"), 0, 1), &none); none != nil {
		t.Errorf("a text file has %+v", none)
	}
}

// A tally file that was never saved counts as one of the workspace: what it names is found and renamed.
func TestATallyFileThatWasNeverSaved(t *testing.T) {
	root := tree(t, map[string]string{"tidytally.toml": "[task.fire]\nrun = \"true\"\n", "part/x": ""})
	c := connect(t, root)
	fresh := c.open(filepath.Join(root, "part", "tidytally.toml"), "[task.ship]\nrun = \"true\"\nafter = [\"tidytally.toml#fire\"]\n")
	elsewhere := filepath.Join(testtree.Folder(t), "tidytally.toml")
	c.open(elsewhere, "[task.ship]\nafter = [\"tidytally.toml#fire\"]\n")
	c.open(filepath.Join(root, "tidytally.toml"), "[task.fire]\nrun = \"true\"\n")
	c.run(commandShow, root, "tidytally.toml#fire") // the workspace is read
	var there location
	c.ask("textDocument/definition", at(fresh, 2, 15), &there)
	if there.URI != uriOf(filepath.Join(root, "tidytally.toml")) || there.Range.Start != (position{0, 6}) {
		t.Errorf("declared at %+v", there)
	}
	var all []location
	c.ask("textDocument/references", at(there.URI, 0, 7), &all)
	if len(all) != 2 || !slices.ContainsFunc(all, func(l location) bool { return l.URI == fresh && l.Range.Start == position{2, 9} }) {
		t.Errorf("named at %+v", all)
	}
	only := at(there.URI, 0, 7)
	only["context"] = map[string]any{"includeDeclaration": false}
	if c.ask("textDocument/references", only, &all); len(all) != 1 || all[0].URI != fresh {
		t.Errorf("named besides at %+v", all)
	}
}

// The newest run is run again with its arguments, and what stops is what was named.
func TestRunAgainAndStop(t *testing.T) {
	root := tree(t, map[string]string{"tidytally.toml": "[task.say]\nrun = [\"sh\", \"-c\", \"echo $1 >> said\", \"say\"]\nargs = [{ name = \"WORD\" }]\n[task.wait]\nrun = [\"sleep\", \"600\"]\n[task.doze]\nrun = [\"sleep\", \"600\"]\n"})
	other := tree(t, map[string]string{"tidytally.toml": "[task.say]\nrun = [\"sh\", \"-c\", \"echo other $1 >> said\", \"say\"]\nargs = [{ name = \"WORD\" }]\n"})
	c := connect(t, root, other)
	runs := 0
	ended := func(id, word string) {
		t.Helper()
		runs++
		c.until(id+" has ended", func() func(string, json.RawMessage) bool {
			n := 0
			return func(method string, params json.RawMessage) bool {
				if method == "window/showMessage" && strings.Contains(string(params), " after ") {
					n++
				}
				return n == runs && strings.Contains(string(params), id+" "+word)
			}
		}())
	}
	c.run(commandShow, root, "tidytally.toml#say")
	if a := c.request("workspace/executeCommand", map[string]any{"command": commandRunAgain, "arguments": []any{root}}); a.Error == nil || !strings.Contains(a.Error.Message, "nothing was run here yet") {
		t.Errorf("%+v", a)
	}
	c.run(commandRun, root, "tidytally.toml#say", "one")
	ended("tidytally.toml#say", "ok")
	c.run(commandRun, root, "tidytally.toml#say", "two")
	ended("tidytally.toml#say", "ok")
	c.run(commandRun, other, "tidytally.toml#say", "three")
	ended("tidytally.toml#say", "ok")
	c.run(commandRunAgain, root)
	ended("tidytally.toml#say", "ok")
	data, err := os.ReadFile(filepath.Join(root, "said"))
	if err != nil || string(data) != "one\ntwo\ntwo\n" {
		t.Errorf("said %q, %v", data, err)
	}

	c.run(commandRun, root, "tidytally.toml#wait")
	c.run(commandRun, root, "tidytally.toml#doze")
	c.run(commandStop, root, "tidytally.toml#doze")
	ended("tidytally.toml#doze", "stopped")
	c.run(commandStop, root)
	ended("tidytally.toml#wait", "stopped")
}

// A workspace is named in one of three ways, the newest first; a client that names none gets the folder
// that the server was started in.
func TestHowAWorkspaceIsNamed(t *testing.T) {
	of := func(name string) string {
		return tree(t, map[string]string{"Makefile": name + ":\n\ttrue\n"})
	}
	folder, uri, path, place := of("by-folder"), of("by-uri"), of("by-path"), of("by-place")
	t.Chdir(place)
	for _, x := range []struct {
		params map[string]any
		root   string
		want   string
	}{
		{map[string]any{"workspaceFolders": []any{map[string]string{"uri": uriOf(folder), "name": "x"}}, "rootUri": uriOf(uri), "rootPath": path}, folder, "by-folder"},
		{map[string]any{"workspaceFolders": nil, "rootUri": uriOf(uri), "rootPath": path}, uri, "by-uri"},
		{map[string]any{"rootUri": nil, "rootPath": path}, path, "by-path"},
		{map[string]any{}, place, "by-place"},
	} {
		c := dial(t)
		x.params["capabilities"] = map[string]any{"general": map[string]any{"positionEncodings": []string{"utf-7", "utf-32", "utf-8"}}}
		var got struct {
			Capabilities struct{ PositionEncoding string }
		}
		c.ask("initialize", x.params, &got)
		if got.Capabilities.PositionEncoding != "utf-32" {
			t.Errorf("the encoding is %q", got.Capabilities.PositionEncoding)
		}
		c.tell("initialized", map[string]any{})
		c.run(commandShow, x.root, "Makefile#"+x.want)
		c.ask("shutdown", nil, nil)
		c.tell("exit", nil)
	}
}

// A diagnostic moves with its range while the text is edited, until the next run.
func TestDiagnosticsMoveWithTheText(t *testing.T) {
	const source = "int a;\nint b;\n\tprintf(\"%s\", \U0001F3FA, wrong);\nint c;\n"
	root := tree(t, map[string]string{"Makefile": "all:\n\t@echo 'p.c:3:26: error: wrong is undeclared'; echo 'p.c:4:5: warning: c is unused'\n", "p.c": source})
	c := connect(t, root)
	path := filepath.Join(root, "p.c")
	uri := c.open(path, source)
	version := 1
	edit := func(l1, c1, l2, c2 int, text string) {
		version++
		c.tell("textDocument/didChange", map[string]any{
			"textDocument":   map[string]any{"uri": uri, "version": version},
			"contentChanges": []map[string]any{{"range": span{position{l1, c1}, position{l2, c2}}, "text": text}},
		})
	}
	const warning = " 2 c is unused"
	wrong := func(place string) string { return place + " 1 wrong is undeclared" }
	c.run(commandRun, root, "all")
	c.waitShown(path, wrong("2:18-23"), "3:4-5"+warning) // in units of UTF-16
	edit(1, 0, 1, 0, "// two\n// lines\n")
	c.waitShown(path, wrong("4:18-23"), "5:4-5"+warning)
	edit(4, 20, 4, 22, "_o_") // within the word
	c.waitShown(path, wrong("4:18-24"), "5:4-5"+warning)
	edit(4, 1, 4, 1, "(void)\U0001F3FA") // before it, on its line
	c.waitShown(path, wrong("4:26-32"), "5:4-5"+warning)
	edit(4, 9, 4, 9, "\n") // its line is broken before it
	c.waitShown(path, wrong("5:17-23"), "6:4-5"+warning)
	edit(4, 9, 5, 0, "")
	c.waitShown(path, wrong("4:26-32"), "5:4-5"+warning)
	edit(4, 32, 4, 32, " + 1") // after it
	c.waitShown(path, wrong("4:26-32"), "5:4-5"+warning)
	edit(4, 0, 5, 0, "") // the line is deleted
	c.waitShown(path, "4:4-5"+warning)
	edit(4, 3, 4, 6, "") // all of it, and more of its line
	c.waitShown(path, "4:3-3"+warning)
	c.run(commandRun, root, "all")
	c.waitShown(path, wrong("2:7-8"), "3:4-5"+warning) // the places that it printed, in a text that is another one
}

// The range of a place stays in the text, and its ends in order, whatever is replaced.
func FuzzAnchors(f *testing.F) {
	f.Add("int a;\nint bc;\n", 1, 4, 1, 6, 0, 0, 1, 0, "")
	f.Add("int a;\nint bc;\n", 1, 4, 1, 6, 1, 5, 1, 7, "x\ny")
	f.Fuzz(func(t *testing.T, text string, l1, c1, l2, c2, l3, c3, l4, c4 int, with string) {
		d := &document{}
		d.set(text)
		in := func(l, c int) position { return d.position(d.offset(position{l, c}, utf16Units), utf16Units) }
		at := span{in(l1, c1), in(l2, c2)}
		if before(at.End, at.Start) {
			at.Start, at.End = at.End, at.Start
		}
		d.anchors = map[anchorKey]anchor{{}: {at: at}}
		d.change(&span{in(l3, c3), in(l4, c4)}, with, utf16Units)
		a, kept := d.anchors[anchorKey{}]
		if !kept || a.gone {
			return
		}
		if before(a.at.End, a.at.Start) {
			t.Fatalf("%+v was %+v", a.at, at)
		}
		for _, p := range []position{a.at.Start, a.at.End} {
			if p.Line < 0 || p.Line >= len(d.starts) || p.Character < 0 || d.position(d.offset(p, utf16Units), utf16Units) != p {
				t.Fatalf("%+v is not in %q; it was %+v", p, d.text, at)
			}
		}
	})
}

// Groups, and scripts that stand on one line, have their lenses, actions and places; {file} is the file in hand.
func TestTasksWhereTheyAreNamed(t *testing.T) {
	const scripts = `{"scripts": {"fire": "echo 🏺", "glaze": "echo g"}}`
	const tally = "[task.say]\nrun = \"echo '{file.rel}:1:1: error: in hand'\"\n[task.both]\nwith = [\"package.json#fire\", \"package.json#glaze\"]\n"
	root := tree(t, map[string]string{"package.json": scripts, "tidytally.toml": tally, "a.c": "int a;\n"})
	c := connect(t, root)
	pkg, toml := c.open(filepath.Join(root, "package.json"), scripts), c.open(filepath.Join(root, "tidytally.toml"), tally)
	lenses := func(uri string) string {
		var list []codeLens
		c.ask("textDocument/codeLens", map[string]any{"textDocument": map[string]any{"uri": uri}}, &list)
		var out []string
		for _, l := range list {
			if l.Command.Command == commandRun {
				out = append(out, fmt.Sprintf("%d:%d %s", l.Range.Start.Line, l.Range.Start.Character, l.Command.Title))
			}
		}
		return strings.Join(out, ", ")
	}
	for deadline := time.Now().Add(20 * time.Second); lenses(toml) == "" && time.Now().Before(deadline); { // until the workspace is read
		time.Sleep(time.Millisecond)
	}
	if got := lenses(pkg); got != "0:13 run fire, 0:32 run glaze" {
		t.Errorf("the scripts have %q", got)
	}
	if got := lenses(toml); got != "0:0 run say, 2:0 run both" {
		t.Errorf("the tally file has %q", got)
	}
	actions := func(uri string, line, character int) string {
		var list []codeAction
		at := position{line, character}
		c.ask("textDocument/codeAction", map[string]any{"textDocument": map[string]any{"uri": uri}, "range": span{at, at}, "context": map[string]any{"diagnostics": []any{}}}, &list)
		var out []string
		for _, a := range list {
			if a.Command.Command == commandRun {
				out = append(out, a.Title)
			}
		}
		return strings.Join(out, ", ")
	}
	for _, x := range []struct {
		uri             string
		line, character int
		want            string
	}{
		{pkg, 0, 3, "run fire"}, {pkg, 0, 15, "run fire"}, {pkg, 0, 31, "run fire"}, {pkg, 0, 33, "run glaze"}, {pkg, 0, 60, "run glaze"}, {toml, 1, 2, "run say"}, {toml, 3, 4, "run both"},
	} {
		if got := actions(x.uri, x.line, x.character); got != x.want {
			t.Errorf("at %d:%d of %s: %q, want %q", x.line, x.character, filepath.Base(x.uri), got, x.want)
		}
	}
	var at location
	c.ask("textDocument/definition", map[string]any{"textDocument": map[string]any{"uri": toml}, "position": position{3, 35}}, &at)
	if at.URI != pkg || at.Range.Start != (position{0, 32}) {
		t.Errorf("glaze is declared at %+v", at)
	}
	path := filepath.Join(root, "a.c")
	c.open(path, "int a;\n")
	c.run(commandRun, root, "say")
	c.waitShown(path, "0:0-3 1 in hand")
}

// Unknown names in a tally file that is not saved yet are told as check tells them.
func TestUnknownNamesInAnUnsavedTallyFile(t *testing.T) {
	const saved = "[task.fire]\nrun = \"true\"\n"
	root := tree(t, map[string]string{"tidytally.toml": saved, "Makefile": "all:\n\ttrue\n"})
	c := connect(t, root)
	path := filepath.Join(root, "tidytally.toml")
	uri := c.open(path, saved)
	edit := func(version int, text string) {
		c.tell("textDocument/didChange", map[string]any{"textDocument": map[string]any{"uri": uri, "version": version}, "contentChanges": []map[string]any{{"text": text}}})
	}
	for deadline := time.Now().Add(20 * time.Second); time.Now().Before(deadline); time.Sleep(time.Millisecond) { // until the workspace is read
		var list []codeLens
		if c.ask("textDocument/codeLens", map[string]any{"textDocument": map[string]any{"uri": uri}}, &list); len(list) > 0 {
			break
		}
	}
	edit(2, saved+"[task.glaze]\nrun = \"true\"\nbefore = [\"#fire\", \"#fier\", \"Makefile#all\"]\nvia = \"box\"\n")
	c.waitShown(path, "4:0-6 2 task glaze: no task tidytally.toml#fier; the nearest are: tidytally.toml#fire Makefile#all tidytally.toml#glaze", "5:0-3 2 task glaze: there is no [via.box]")
	edit(3, saved)
	c.waitShown(path)
}
