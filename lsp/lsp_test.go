package lsp

import (
	"bufio"
	"encoding/json"
	"fmt"
	"io"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"tidytally/core/hand"
	"tidytally/core/session"
	"tidytally/core/task"
	"tidytally/internal/testtree"
)

// client is the other side of a session, with framing of its own.
type client struct {
	t    *testing.T
	out  io.WriteCloser
	exit chan int

	mu      sync.Mutex
	answers map[string]chan answer
	told    []notice
	news    chan struct{}
	next    int
}

type answer struct {
	Result json.RawMessage
	Error  *struct {
		Code    int
		Message string
	}
}

type notice struct {
	Method string
	Params json.RawMessage
}

// connect begins a session on workspaces.
func connect(t *testing.T, roots ...string) *client {
	t.Helper()
	c := dial(t)
	var folders []map[string]string
	for _, root := range roots {
		folders = append(folders, map[string]string{"uri": uriOf(root), "name": filepath.Base(root)})
	}
	c.ask("initialize", map[string]any{
		"workspaceFolders": folders,
		"capabilities":     map[string]any{"window": map[string]any{"workDoneProgress": true, "showDocument": map[string]bool{"support": true}}},
	}, nil)
	c.tell("initialized", map[string]any{})
	return c
}

// dial begins a connection without a word.
func dial(t *testing.T) *client {
	t.Helper()
	t.Setenv("XDG_STATE_HOME", testtree.Folder(t))
	t.Setenv("XDG_RUNTIME_DIR", testtree.Folder(t))
	fromClient, toServer := io.Pipe()
	fromServer, toClient := io.Pipe()
	c := &client{t: t, out: toServer, exit: make(chan int, 1), answers: map[string]chan answer{}, news: make(chan struct{}, 1)}
	go func() {
		c.exit <- Serve(fromClient, toClient, "test")
		toClient.Close()
	}()
	go c.read(bufio.NewReader(fromServer))
	t.Cleanup(func() {
		toServer.Close()
		select {
		case <-c.exit:
		case <-time.After(20 * time.Second):
			t.Error("the server goes on after its client has gone")
		}
	})
	return c
}

func (c *client) read(in *bufio.Reader) {
	for {
		n := 0
		for {
			line, err := in.ReadString('\n')
			if err != nil {
				return
			}
			if line = strings.TrimSpace(line); line == "" {
				break
			}
			if v, ok := strings.CutPrefix(line, "Content-Length: "); ok {
				n, _ = strconv.Atoi(v)
			} else {
				c.t.Errorf("the server writes %q", line)
			}
		}
		data := make([]byte, n)
		if _, err := io.ReadFull(in, data); err != nil {
			return
		}
		var m struct {
			ID     json.RawMessage
			Method string
			Params json.RawMessage
			answer
		}
		if err := json.Unmarshal(data, &m); err != nil {
			c.t.Errorf("the server writes %q: %v", data, err)
			return
		}
		c.mu.Lock()
		switch {
		case m.Method == "" && c.answers[string(m.ID)] != nil:
			c.answers[string(m.ID)] <- m.answer
		case m.Method == "":
			c.told = append(c.told, notice{"error", data})
		default:
			c.told = append(c.told, notice{m.Method, m.Params})
		}
		c.mu.Unlock()
		if m.Method != "" && m.ID != nil {
			go c.write(map[string]any{"jsonrpc": "2.0", "id": m.ID, "result": nil})
		}
		select {
		case c.news <- struct{}{}:
		default:
		}
	}
}

func (c *client) write(v any) {
	data, err := json.Marshal(v)
	if err != nil {
		c.t.Error(err)
		return
	}
	_, _ = fmt.Fprintf(c.out, "Content-Length: %d\r\n\r\n%s", len(data), data) // the server may have gone
}

func (c *client) tell(method string, params any) {
	c.write(map[string]any{"jsonrpc": "2.0", "method": method, "params": params})
}

// request sends a request and returns its answer.
func (c *client) request(method string, params any) answer {
	c.t.Helper()
	c.mu.Lock()
	c.next++
	id, got := strconv.Itoa(c.next), make(chan answer, 1)
	c.answers[id] = got
	c.mu.Unlock()
	c.write(map[string]any{"jsonrpc": "2.0", "id": c.next, "method": method, "params": params})
	select {
	case a := <-got:
		return a
	case <-time.After(30 * time.Second):
		c.t.Fatalf("%s is not answered", method)
		return answer{}
	}
}

// ask sends a request that must be answered well.
func (c *client) ask(method string, params, result any) {
	c.t.Helper()
	a := c.request(method, params)
	if a.Error != nil {
		c.t.Fatalf("%s: %d %s", method, a.Error.Code, a.Error.Message)
	}
	if result != nil {
		if err := json.Unmarshal(a.Result, result); err != nil {
			c.t.Fatalf("%s: %v in %s", method, err, a.Result)
		}
	}
}

// until waits until something is told that f takes.
func (c *client) until(what string, f func(method string, params json.RawMessage) bool) {
	c.t.Helper()
	late := time.After(30 * time.Second)
	for i := 0; ; {
		c.mu.Lock()
		told := c.told
		c.mu.Unlock()
		for ; i < len(told); i++ {
			if f(told[i].Method, told[i].Params) {
				return
			}
		}
		select {
		case <-c.news:
		case <-late:
			var all []string
			for _, n := range told[max(0, len(told)-12):] {
				all = append(all, n.Method+" "+string(n.Params[:min(len(n.Params), 600)]))
			}
			c.t.Fatalf("not told: %s\n%s", what, strings.Join(all, "\n"))
		}
	}
}

// shown returns the diagnostics that the client shows of a file.
func (c *client) shown(path string) (p publishParams) {
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, n := range c.told {
		var q publishParams
		if n.Method == "textDocument/publishDiagnostics" && json.Unmarshal(n.Params, &q) == nil && pathOf(q.URI) == path {
			p = q
		}
	}
	return p
}

// waitShown waits until the diagnostics of a file are so: each as line:from-to severity source message.
func (c *client) waitShown(path string, want ...string) {
	c.t.Helper()
	var got []string
	c.until(fmt.Sprintf("%s shows %q", path, want), func(string, json.RawMessage) bool {
		got = nil
		for _, d := range c.shown(path).Diagnostics {
			got = append(got, fmt.Sprintf("%d:%d-%d %d %s", d.Range.Start.Line, d.Range.Start.Character, d.Range.End.Character, d.Severity, d.Message))
		}
		return slices.Equal(got, want)
	})
}

// run executes a command, once the workspace has been read.
func (c *client) run(name string, args ...any) {
	c.t.Helper()
	for {
		a := c.request("workspace/executeCommand", map[string]any{"command": name, "arguments": args})
		if a.Error == nil {
			return
		}
		if !strings.Contains(a.Error.Message, "still being read") {
			c.t.Fatal(a.Error.Message)
		}
		<-c.news
	}
}

func (c *client) open(path, text string) string {
	uri := uriOf(path)
	c.tell("textDocument/didOpen", map[string]any{"textDocument": map[string]any{"uri": uri, "languageId": "x", "version": 1, "text": text}})
	return uri
}

// tree makes a workspace.
func tree(t *testing.T, files map[string]string) string {
	t.Helper()
	dir := testtree.Folder(t)
	testtree.Fill(t, dir, files)
	return real(dir)
}

const sloppy = "[task.lint]\nrun = \"cat log\"\n[task.slow]\nrun = [\"sleep\", \"61234\"]\nargs = [{ name = \"BOARD\", choices = [\"mk1\", \"mk2\"] }]\n"

// A task is run from the editor: its problems stand there, in the client's units, move with the text as it is
// edited, and are gone when the next run does not report them.
func TestProblemsOfARunStandInTheEditor(t *testing.T) {
	root := tree(t, map[string]string{
		"tidytally.toml": sloppy, "a.c": "int one;\n\tint \U0001F3FAé = two;\n",
		"log": "a.c:1:5: warning: unused variable 'one' [-Wunused-variable]\na.c:2:19: error: 'two' undeclared\n",
	})
	source := filepath.Join(root, "a.c")
	c := connect(t, root)
	uri := c.open(source, "int one;\n\tint \U0001F3FAé = two;\n")
	run := func(id string, args ...any) {
		t.Helper()
		c.run(commandRun, append([]any{root, id}, args...)...)
	}
	run("lint")
	c.waitShown(source, "0:4-7 2 unused variable 'one'", "1:11-14 1 'two' undeclared")
	if d := c.shown(source).Diagnostics; !slices.Equal(d[0].Tags, []int{1}) || d[0].Code != "unused-variable" || d[1].Source == "" {
		t.Errorf("%+v", d)
	}
	c.until("how it ended", func(method string, params json.RawMessage) bool {
		return method == "window/showMessage" && strings.Contains(string(params), "tidytally.toml#lint ok after") && strings.Contains(string(params), "1 error, 1 warning")
	})
	c.tell("textDocument/didChange", map[string]any{"textDocument": map[string]any{"uri": uri, "version": 2}, "contentChanges": []any{
		map[string]any{"range": span{position{0, 0}, position{0, 0}}, "text": "// above\n"},
	}})
	c.waitShown(source, "1:4-7 2 unused variable 'one'", "2:11-14 1 'two' undeclared")
	if v := c.shown(source).Version; v == nil || *v != 2 {
		t.Errorf("version %v", v)
	}
	testtree.Fill(t, root, map[string]string{"log": "cc -c a.c\n"})
	run("lint")
	c.waitShown(source)

	// What is still running is stopped with the server.
	run("slow", "BOARD=mk1")
	c.until("progress", func(method string, params json.RawMessage) bool {
		return method == "$/progress" && strings.Contains(string(params), `"kind":"begin"`)
	})
	c.ask("shutdown", nil, nil)
	c.tell("exit", nil)
	if code := <-c.exit; code != 0 {
		t.Errorf("exit %d", code)
	}
	c.exit <- 0
	if pids, err := exec.Command("pgrep", "-f", "^sleep 61234$").Output(); err == nil {
		t.Errorf("it goes on: %s", pids)
	}
}

// Problems of runs in another Tidy Tally stand in the editor, too, and faults of
// declarations.
func TestProblemsOfOtherRunsAndDeclarations(t *testing.T) {
	root := tree(t, map[string]string{"tidytally.toml": "[task.bad]\nrun = 7\nbefore = [\"#gone\"]\n", "Makefile": "all:\n\t@echo 'b.c:2: error: odd'\ninclude nowhere.mk\n", "b.c": "int b;\n  odd;\n"})
	c := connect(t, root)
	c.waitShown(filepath.Join(root, "tidytally.toml"), "1:6-7 2 run is an integer where a string or a list of strings should stand", "2:0-6 2 task bad: no task tidytally.toml#gone; the nearest are: tidytally.toml#bad Makefile#all")
	c.waitShown(filepath.Join(root, "Makefile"), "2:0-18 2 include nowhere.mk: there is no such file; the rest of the file was read")

	// The history gets a run of the other program.
	other, err := session.Open(root, session.Options{})
	if err != nil {
		t.Fatal(err)
	}
	defer other.Close()
	other.Touch()
	snap, err := other.Settle(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	found := snap.Survey
	all, err := task.Find(found.Tasks, "Makefile#all")
	if err != nil {
		t.Fatal(err)
	}
	made := *all
	made.Command = task.Command{Shell: "echo 'b.c:2: error: odd'; exit 1"}
	job, err := other.Start(found.Tasks, &made, nil)
	if err != nil {
		t.Fatal(err)
	}
	<-job.Done()
	c.waitShown(filepath.Join(root, "b.c"), "1:2-6 1 odd")

	// And what it prints before it has ended.
	goes := *all
	goes.Command = task.Command{Shell: "echo 'b.c:1: error: soon'; exec sleep 600"}
	if job, err = other.Start(found.Tasks, &goes, nil); err != nil {
		t.Fatal(err)
	}
	c.waitShown(filepath.Join(root, "b.c"), "0:0-6 1 soon", "1:2-6 1 odd") // of which it has said nothing yet
	job.Main.Stop()
	<-job.Done()
}

// In a tally file: keys, values, ids and names are completed, explained, found and renamed; the file is
// laid out.
func TestHelpWithTallyFiles(t *testing.T) {
	const text = "[workspace]\nusual = \"#fire\"\n\n[task.fire]\nrun = [\"true\"]\nvia = \"kiln\"\n\n[task.glaze]\nrun=\"true\"\nbefore = [\"#fire\", \"\"]\nki\n\n[via.kiln]\nrun = \"{command}\"\n"
	root := tree(t, map[string]string{"tidytally.toml": text, "part/tidytally.toml": "[task.ship]\nrun = \"true\"\nafter = [\"tidytally.toml#fire\"]\n", "Makefile": "controller: ## Link it\n\ttrue\n"})
	c := connect(t, root)
	path := filepath.Join(root, "tidytally.toml")
	uri := c.open(path, text)
	at := func(line, character int) map[string]any {
		return map[string]any{"textDocument": map[string]any{"uri": uri}, "position": position{line, character}, "context": map[string]any{"includeDeclaration": true}}
	}
	labels := func(line, character int) string {
		t.Helper()
		var list completionList
		c.ask("textDocument/completion", at(line, character), &list)
		var out []string
		for _, item := range list.Items {
			out = append(out, item.Label)
		}
		return strings.Join(out, " ")
	}
	c.until("the workspace is read", func(string, json.RawMessage) bool { return len(c.shown(path).Diagnostics) > 0 })
	for _, x := range []struct {
		line, character int
		want            string
	}{
		{9, 20, "Makefile#controller"}, {9, 20, "#glaze"}, {10, 2, "kind"}, {5, 8, "kiln"}, {0, 1, "task."}, {1, 9, "Makefile#controller"},
	} {
		if got := labels(x.line, x.character); !strings.Contains(got, x.want) {
			t.Errorf("at %d:%d: %q has no %s", x.line, x.character, got, x.want)
		}
	}
	if got := labels(10, 2); strings.Contains(got, "before") {
		t.Errorf("ki gives %q", got)
	}
	var list completionList
	c.ask("textDocument/completion", at(9, 20), &list)
	for _, item := range list.Items {
		if item.Label == "Makefile#controller" && (item.TextEdit.NewText != "Makefile#controller" || item.TextEdit.Range != span{position{9, 20}, position{9, 20}} || item.Detail != "Link it") {
			t.Errorf("%+v %+v", item, item.TextEdit)
		}
	}
	var about hover
	c.ask("textDocument/hover", at(8, 1), &about)
	if !strings.Contains(about.Contents.Value, "**run**") {
		t.Errorf("run is %q", about.Contents.Value)
	}
	c.ask("textDocument/hover", at(9, 13), &about)
	if !strings.Contains(about.Contents.Value, "tidytally.toml#fire") {
		t.Errorf("#fire is %q", about.Contents.Value)
	}
	var there location
	c.ask("textDocument/definition", at(9, 13), &there)
	if there.URI != uri || there.Range != (span{position{3, 6}, position{3, 10}}) {
		t.Errorf("#fire is declared at %+v", there)
	}
	var all []location
	c.ask("textDocument/references", at(3, 7), &all)
	if len(all) != 4 {
		t.Errorf("fire is named at %+v", all)
	}
	var edit struct{ Changes map[string][]textEdit }
	renamed := at(3, 7)
	renamed["newName"] = "first firing"
	c.ask("textDocument/rename", renamed, &edit)
	var words []string
	for _, edits := range edit.Changes {
		for _, e := range edits {
			words = append(words, e.NewText)
		}
	}
	slices.Sort(words)
	if got := strings.Join(words, " "); got != `"#first%20firing" "#first%20firing" "first firing" "tidytally.toml#first%20firing"` {
		t.Errorf("renamed: %s", got)
	}
	if a := c.request("textDocument/rename", at(10, 1)); a.Error == nil {
		t.Error("nothing has another name now")
	}
	var symbols []documentSymbol
	c.ask("textDocument/documentSymbol", at(0, 0), &symbols)
	if len(symbols) != 4 || symbols[1].Name != "fire" || len(symbols[1].Children) != 2 || symbols[1].Range.End.Line != 6 {
		t.Errorf("%+v", symbols)
	}
	var edits []textEdit
	if a := c.request("textDocument/formatting", at(0, 0)); a.Error == nil {
		t.Error("a file with a mistake was laid out")
	}
	c.tell("textDocument/didChange", map[string]any{"textDocument": map[string]any{"uri": uri, "version": 2}, "contentChanges": []any{map[string]any{"range": span{position{10, 0}, position{10, 2}}, "text": ""}}})
	c.ask("textDocument/formatting", at(0, 0), &edits)
	if len(edits) != 1 || !strings.Contains(edits[0].NewText, "run = \"true\"\nbefore") {
		t.Errorf("%+v", edits)
	}
	// Tasks where they are declared.
	var lenses []codeLens
	c.ask("textDocument/codeLens", map[string]any{"textDocument": map[string]any{"uri": uriOf(filepath.Join(root, "Makefile"))}}, &lenses)
	if len(lenses) != 2 || lenses[0].Command.Title != "run controller" || lenses[0].Command.Arguments[1] != "Makefile#controller" {
		t.Errorf("%+v", lenses)
	}
	var actions []codeAction
	c.ask("textDocument/codeAction", map[string]any{"textDocument": map[string]any{"uri": uri}, "range": span{position{4, 0}, position{4, 0}}, "context": map[string]any{"diagnostics": []any{}}}, &actions)
	if len(actions) != 2 || actions[0].Title != "run fire" {
		t.Errorf("%+v", actions)
	}
	c.run(commandShow, root, "Makefile#controller")
	c.until("what it runs", func(method string, params json.RawMessage) bool {
		return method == "window/showMessage" && strings.Contains(string(params), "Makefile#controller runs make controller in .")
	})
	c.run(commandUsual)
	c.until("the usual task", func(method string, params json.RawMessage) bool {
		return method == "window/showMessage" && strings.Contains(string(params), "tidytally.toml#fire ok")
	})
}

// A client that does not keep to the protocol is told so, and the session goes on where it can.
func TestAClientThatErrs(t *testing.T) {
	c := dial(t)
	code := func(method string, params any) int {
		t.Helper()
		if a := c.request(method, params); a.Error != nil {
			return a.Error.Code
		}
		return 0
	}
	if got := code("textDocument/hover", map[string]any{}); got != notInitialized {
		t.Errorf("before initialize: %d", got)
	}
	c.tell("textDocument/didOpen", map[string]any{"textDocument": map[string]any{"uri": "file:///x", "text": "x"}})
	for _, bad := range []string{"nothing", "[]", "{}", `{"id": 1.5, "method": "x"}`, `{"id": null, "method": "x"}`, `{"id": {}, "method": "x"}`, `{"method": 7}`, "{\"method\": \"\xff"} {
		fmt.Fprintf(c.out, "Content-Type: x\r\nContent-Length: %d\r\n\r\n%s", len(bad), bad)
	}
	root := tree(t, map[string]string{"tidytally.toml": sloppy})
	gone := filepath.Join(root, "gone")
	if got := code("initialize", map[string]any{"workspaceFolders": []any{map[string]string{"uri": uriOf(root)}, map[string]string{"uri": uriOf(gone)}, map[string]string{"uri": "http://x/"}}, "capabilities": map[string]any{"general": map[string]any{"positionEncodings": []string{"utf-7", "utf-8"}}}}); got != 0 {
		t.Fatalf("initialize: %d", got)
	}
	c.tell("initialized", map[string]any{})
	if got := code("initialize", map[string]any{}); got != -32600 {
		t.Errorf("initialize again: %d", got)
	}
	for method, want := range map[string]int{"no/such": -32601, "workspace/executeCommand": -32603} {
		if got := code(method, map[string]any{"command": "rm"}); got != want {
			t.Errorf("%s: %d", method, got)
		}
	}
	if got := code("textDocument/hover", []int{1}); got != -32602 {
		t.Errorf("parameters of another kind: %d", got)
	}
	path := filepath.Join(root, "tidytally.toml")
	uri := c.open(path, sloppy)
	for _, p := range []position{{-1, -1}, {0, 1 << 30}, {1 << 30, 0}, {3, 5}} {
		for method := range methods {
			if method != "workspace/executeCommand" {
				c.request(method, map[string]any{"textDocument": map[string]any{"uri": uri}, "position": p, "range": span{p, p}, "newName": "x"})
			}
		}
		c.tell("textDocument/didChange", map[string]any{"textDocument": map[string]any{"uri": uri, "version": 2}, "contentChanges": []any{map[string]any{"range": span{p, position{0, 0}}, "text": "\u0000["}}})
	}
	c.tell("$/cancelRequest", map[string]any{"id": 99})
	c.tell("textDocument/didClose", map[string]any{"textDocument": map[string]any{"uri": uri}})
	c.tell("textDocument/didClose", map[string]any{"textDocument": map[string]any{"uri": uri}})
	if got := code("shutdown", nil); got != 0 {
		t.Errorf("shutdown: %d", got)
	}
	if got := code("textDocument/hover", map[string]any{}); got != -32600 {
		t.Errorf("after shutdown: %d", got)
	}
	c.tell("exit", nil)
	if got := <-c.exit; got != 0 {
		t.Errorf("exit %d", got)
	}
	c.exit <- 0
}

// The stream reads any input to its end, and writes nothing but whole messages.
func FuzzFraming(f *testing.F) {
	f.Add([]byte("Content-Length: 2\r\n\r\n{}"))
	f.Add([]byte("Content-Length: 58\r\n\r\n{\"jsonrpc\":\"2.0\",\"id\":1,\"method\":\"initialize\",\"params\":{}}"))
	f.Add([]byte("content-length:99999999999999\n\n"))
	f.Add([]byte("Content-Length: -1\r\n\r\n"))
	f.Fuzz(func(t *testing.T, in []byte) {
		var out strings.Builder
		s := newStream(strings.NewReader(string(in)), &out)
		for range 100 {
			var v any
			if s.ReadObject(&v) != nil {
				break
			}
		}
		s.finish(time.Minute)
		check := newStream(strings.NewReader(out.String()), io.Discard)
		defer check.finish(time.Minute)
		for {
			n, err := check.length()
			if err != nil {
				break
			}
			if data, err := check.take(n); err != nil || !json.Valid(data) {
				t.Fatalf("%q gives %q", in, out.String())
			}
		}
	})
}

// The text of a document stays that of the client, whatever is changed, in each encoding.
func FuzzChanges(f *testing.F) {
	f.Add("a\u00e9\U0001F3FA\r\nb\rc", 0, 1, 1, 2, "x\n", uint8(1))
	f.Add("\U0001F3FA\U0001F3FA", 0, 0, 0, 0, "", uint8(1)) // a byte within a character
	f.Fuzz(func(t *testing.T, text string, l1, c1, l2, c2 int, with string, which uint8) {
		e := []encoding{utf8Units, utf16Units, utf32Units}[which%3]
		d := &document{}
		d.set(text)
		d.change(&span{position{l1, c1}, position{l2, c2}}, with, e)
		if !strings.Contains(d.text, with) {
			t.Fatalf("%q is not in %q", with, d.text)
		}
		for at := 0; at <= len(d.text); at++ {
			p := d.position(at, e)
			if back := d.offset(p, e); back > at {
				t.Fatalf("byte %d of %q is at %+v, which is byte %d", at, d.text, p, back)
			}
		}
	})
}

// Many problems in many files are told soon, and once.
func TestManyProblems(t *testing.T) {
	var log strings.Builder
	files := map[string]string{"tidytally.toml": "[task.lint]\nrun = \"cat log\"\n"}
	for i := range 500 {
		name := fmt.Sprintf("src/f%d.c", i)
		files[name] = strings.Repeat("int a;\n", 20)
		for n := range 20 {
			fmt.Fprintf(&log, "%s:%d:5: warning: glaze %d is dull\n", name, n+1, n)
		}
	}
	files["log"] = log.String()
	root := tree(t, files)
	c := connect(t, root)
	c.run(commandRun, root, "lint")
	last, total := map[string]int{}, 0
	c.until("all files", func(method string, params json.RawMessage) bool {
		var p publishParams
		if method == "textDocument/publishDiagnostics" && json.Unmarshal(params, &p) == nil {
			total += len(p.Diagnostics) - last[p.URI]
			last[p.URI] = len(p.Diagnostics)
		}
		return total == 10_000
	})
}

// The file in hand goes to the Tidy Tally that is open, and places come from there.
func TestTheFileInHand(t *testing.T) {
	root := tree(t, map[string]string{"tidytally.toml": sloppy, "a.c": "int a;\n"})
	c := connect(t, root)
	c.open(filepath.Join(root, "a.c"), "int a;\n")
	took := make(chan string, 10)
	host, err := hand.Listen(root, func(file string) { took <- file })
	if err != nil {
		t.Fatal(err)
	}
	defer host.Close()
	if _, err := hand.Listen(root, nil); err != hand.ErrTaken {
		t.Errorf("a second one: %v", err)
	}
	if got := <-took; got != filepath.Join(root, "a.c") {
		t.Errorf("in hand: %s", got)
	}
	if n := host.Show(filepath.Join(root, "tidytally.toml"), 3, 1); n != 1 {
		t.Errorf("%d editors", n)
	}
	c.until("the place", func(method string, params json.RawMessage) bool {
		return method == "window/showDocument" && strings.Contains(string(params), "tidytally.toml") && strings.Contains(string(params), `"line":2`)
	})
}

// A request that panics is answered with the fault and where its report lies; the session goes on.
func TestARequestThatPanics(t *testing.T) {
	methods["test/crack"] = func(*Server, json.RawMessage) (any, error) { panic("cracked") }
	defer delete(methods, "test/crack")
	root := tree(t, map[string]string{"tidytally.toml": sloppy})
	c := connect(t, root)
	if a := c.request("test/crack", map[string]any{}); a.Error == nil || !strings.Contains(a.Error.Message, "a fault of Tidy Tally in test/crack: cracked; the report is ") {
		t.Errorf("answered: %+v", a.Error)
	}
	c.ask("textDocument/documentSymbol", map[string]any{"textDocument": map[string]string{"uri": uriOf(filepath.Join(root, "tidytally.toml"))}}, nil)
}
