package files_test

import (
	"errors"
	"go/ast"
	"go/parser"
	"go/token"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"tidytally/core/files"
)

// Regular files are read whole, up to the limit; all else is refused at once, with what it is.
func TestWhatIsRead(t *testing.T) {
	dir := t.TempDir()
	at := func(name string) string { return filepath.Join(dir, name) }
	for name, text := range map[string]string{"empty": "", "small": "clay\n", "full": "0123456789", "large": "0123456789a"} {
		if err := os.WriteFile(at(name), []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	if err := syscall.Mkfifo(at("fifo"), 0o644); err != nil {
		t.Fatal(err)
	}
	for name, to := range map[string]string{"link": "small", "pagemap": "/proc/self/pagemap", "zero": "/dev/zero", "lost": "nowhere", "self": "self", "folder": "."} {
		if err := os.Symlink(to, at(name)); err != nil {
			t.Fatal(err)
		}
	}
	for name, want := range map[string]string{
		"empty": "", "small": "clay\n", "full": "0123456789", "link": "clay\n",
		"large":   "has 11 bytes, more than the 10 that are read: not read",
		"fifo":    "is a FIFO, no regular file: not read",
		"zero":    "is a device, no regular file: not read",
		"pagemap": "is a file of the kernel: not read",
		"folder":  "is a folder, no regular file: not read",
		"lost":    "no such file or directory",
		"self":    "too many levels of symbolic links",
	} {
		if _, err := os.Stat("/proc/self/pagemap"); err != nil && name == "pagemap" {
			continue
		}
		data, err := files.Read(at(name), 10)
		got := string(data)
		if err != nil {
			got = err.Error()
		}
		if !strings.HasSuffix(got, want) || err == nil && got != want {
			t.Errorf("%s: %q, want %q", name, got, want)
		}
		var refused *files.Refused
		if errors.As(err, &refused) != strings.HasSuffix(want, ": not read") {
			t.Errorf("%s: %v refused", name, err)
		}
	}
	entries, err := files.List(dir)
	if err != nil || len(entries) != 11 {
		t.Errorf("%d entries, %v", len(entries), err)
	}
	if _, err := files.List(at("small")); err == nil {
		t.Error("a file was listed")
	}
}

// own are the places, by file and function, that open files which the program made itself, which the system has, or
// which the call names; by why.
var own = map[string]string{
	"core/crash/crash.go:write":                  "reports",
	"core/files/files.go:Open":                   "this room",
	"core/files/files.go:List":                   "this room",
	"core/workspace/walk.go:ReadHead":            "part of the walk: bounded, no links",
	"core/workspace/readdir_linux.go:openFolder": "part of the walk",
	"core/history/mend.go:lockOf":                "the folder of states",
	"core/history/store.go:openDatabase":         "the folder of states",
	"core/history/record.go:keepOutput":          "a spool of this program",
	"core/hand/hand.go:Listen":                   "the runtime folder",
	"core/keep/keep.go:FirstStart":               "the folder of states",
	"core/keep/keep.go:read":                     "the folder of states",
	"core/keep/keep.go:Save":                     "the folder of states",
	"core/output/folder.go:awaited":              "a folder of spools",
	"core/output/folder.go:lockFolder":           "a folder of spools",
	"core/survey/cache.go:readCache":             "the folder of caches",
	"core/run/direct.go:askManager":              "the folder of caches",
	"core/run/direct.go:probe":                   "a folder that it made",
	"core/run/reach.go:Reach":                    "a spool of this program",
	"core/run/run.go:executePlain":               "the null device",
	"core/run/batch.go:said":                     "the folder of jobs",
	"core/run/batch.go:read":                     "the folder of jobs",
	"core/run/batch.go:ended":                    "the folder of jobs",
	"core/run/taken.go:TakeUp":                   "the folder of jobs",
	"core/run/taken.go:readArray":                "the folder of jobs",
	"core/history/recover.go:Recover":            "a spool of this program",
	"core/learn/declared.go:eachMatch":           "lists folders alone",
	"core/reader/declare/workspace.go:glob":      "lists folders alone",
	"core/run/batch.go:namesIn":                  "the folder of jobs",
	"core/run/jobserver.go:join":                 "the job server's FIFO",
	"core/run/jobserver.go:openFifo":             "the job server's FIFO",
	"core/run/taken.go:lockFolder":               "the folder of jobs",
	"core/run/taken.go:takeUp":                   "the folder of jobs",
	"core/run/watch.go:sawIn":                    "a trace that it made",
	"core/survey/cache.go:sweepCaches":           "the folder of caches",
	"core/survey/check.go:matchesNothing":        "lists folders alone",
	"core/workspace/packages.go:read":            "lists folders alone",
	"core/workspace/patterns.go:each":            "lists folders alone",
	"core/workspace/readdir.go:entriesOf":        "part of the walk",
	"core/workspace/readdir.go:ReadFolder":       "part of the walk",
	"cmd/tidytally/sift.go:feed":                 "named by the call",
	"core/output/spool.go:OpenSpool":             "a spool of another program of ours",
	"cmd/tidytally/log.go:logTo":                 "the file that the user names",
	"tui/drawing.go:drawing":                     "a new file",
	"tui/output_actions.go:write":                "a spool of this program, and a new file",
}

// Nothing but this package opens files that a stranger may have made.
func TestOneRoomOpensFiles(t *testing.T) {
	opens := map[string]bool{"ReadFile": true, "Open": true, "OpenFile": true, "ReadDir": true, "DirFS": true, "OpenRoot": true, "CreateTemp": false}
	found := map[string]bool{}
	for _, root := range []string{"core", "lsp", "tui", "cmd"} {
		err := filepath.WalkDir(filepath.Join("../..", root), func(name string, d os.DirEntry, err error) error {
			if err != nil || d.IsDir() || !strings.HasSuffix(name, ".go") || strings.HasSuffix(name, "_test.go") {
				return err
			}
			parsed, err := parser.ParseFile(token.NewFileSet(), name, nil, 0)
			if err != nil {
				return err
			}
			rel, _ := filepath.Rel("../..", name)
			for _, decl := range parsed.Decls {
				f, ok := decl.(*ast.FuncDecl)
				if !ok {
					continue
				}
				ast.Inspect(f, func(n ast.Node) bool {
					if sel, ok := n.(*ast.SelectorExpr); ok && opens[sel.Sel.Name] {
						if pkg, ok := sel.X.(*ast.Ident); ok && (pkg.Name == "os" || pkg.Name == "syscall" || pkg.Name == "unix" || pkg.Name == "ioutil") {
							at := filepath.ToSlash(rel) + ":" + f.Name.Name
							if found[at] = true; own[at] == "" {
								t.Errorf("%s calls %s.%s: files of a workspace are opened by package files", at, pkg.Name, sel.Sel.Name)
							}
						}
					}
					return true
				})
			}
			return nil
		})
		if err != nil {
			t.Fatal(err)
		}
	}
	for at := range own {
		if !found[at] {
			t.Errorf("%s opens nothing any more", at)
		}
	}
}
