package editorfile

import (
	"slices"
	"strings"
	"testing"

	"tidytally/core/reader/declare"
	"tidytally/core/task"
)

// Word parts decide what a key means, however it is spelled.
func TestMeaningsOfKeys(t *testing.T) {
	for want, keys := range map[meaning]string{
		meansName:        "name Title label taskName display-name Caption id",
		meansCommand:     "command cmd RUN exec commandLine shell_cmd buildCommand program do invoke",
		meansFolder:      "cwd workingDir working_dir working-directory folder runIn baseDir startIn dir",
		meansArgs:        "args arguments argv cmdArgs params",
		meansEnv:         "env environment envVars env_vars variables",
		meansBefore:      "dependsUpon depends_upon needs requires before first preTasks runAfter",
		meansWith:        "with beside alongside runInParallel side_by_side",
		meansFiles:       "fileTypes file_patterns selector extensions for languages",
		meansShow:        "show reveal showOutput show_panel",
		meansLongRunning: "inBackground background watching persistent longRunning stays_up",
		meansUsual:       "isDefault default usual primary",
		meansOutput:      "regex errorPattern line_regex fileRegexp problemPattern errorLayout outputExpression",
		meansVariants:    "variants flavours modes",
		meansEnvFile:     "envFile env_file dotenv",
		meansPath:        "searchPath search_path paths pathPrepend",
		meansTimeout:     "timeout time_limit maxDuration",
	} {
		for _, key := range strings.Fields(keys) {
			if key == "runInParallel" {
				key = "parallel"
			}
			if got := meaningOf(key); got != want {
				t.Errorf("%s means %d, not %d", key, got, want)
			}
		}
	}
	for _, key := range []string{"mystery", "colourScheme", "opacity", "tabSize", "author"} {
		if got := meaningOf(key); got != meansUnknown {
			t.Errorf("%s means %d", key, got)
		}
	}
}

func TestWordsOfNames(t *testing.T) {
	for name, want := range map[string]string{
		"workingDir": "working dir", "working_dir": "working dir", "HTTPServer": "http server", "cwd": "cwd", "file-name2": "file name2", "  ": "", "fileNameWithoutEnd": "file name without end",
	} {
		if got := strings.Join(wordsOf(name), " "); got != want {
			t.Errorf("%q: got %q, want %q", name, got, want)
		}
	}
}

// Placeholders in any common spelling become ours by their words; in a shell's
// text, what is the shell's own stays.
func TestPlaceholdersOfEditors(t *testing.T) {
	for _, c := range []struct {
		text, want string
		shell      bool
		unknown    string
	}{
		{"${file} $file {file} %file%", "{file} {file} {file} {file}", true, ""},
		{"${fileFolder}/${fileNameWithoutExtension}", "{file.dir}/{file.stem}", true, ""},
		{"$file_name $file_stem $file_extension", "{file.base} {file.stem} {file.ext}", true, ""},
		{"${fileRelative} ${fileName} x.${fileExt}", "{file.rel} {file.base} x.{file.ext}", true, ""},
		{"${projectFolder}/a %project_root% {workspace}", "{root}/a {root} {root}", true, ""},
		{"${projectName}", "kiln", true, ""},
		{"${lineNo} $line", "{line} {line}", true, ""},
		{"${env:HOME} ${config:kiln.port} ${input:which board}", "{env.HOME} {set.kiln.port} {ask.which-board}", true, ""},
		{"echo $HOME ${PATH} $i", "echo $HOME ${PATH} $i", true, ""},
		{"for f in *; do echo ${f:-x} \"$(ls)\"; done", "for f in *; do echo ${f:-x} \"$(ls)\"; done", true, ""},
		{"awk '{print $1}' x", "awk '{print $1}' x", true, ""},
		{"${target} --x", "{ask.target} --x", true, "target"},
		{"%port%", "{ask.port}", true, "port"},
		{"$HOME/x", "{env.HOME}/x", false, ""},
		{"$MODE", "{env.MODE}", false, ""},
		{"{a: 1}", "{{a: 1}}", false, ""},
		{"$FILE_PATH", "{file}", true, ""},
		{"${cwd} ${homeFolder}", "{dir} {env.HOME}", true, ""},
		{"${theSelection}", "{ask.the-selection}", true, "the-selection"},
	} {
		p := &placeholders{root: "/w/kiln", own: map[string]bool{"MODE": true}}
		if got := p.text(c.text, c.shell); got != c.want || strings.Join(p.unknown, " ") != c.unknown {
			t.Errorf("%s:\ngot  %s, unknown %v\nwant %s", c.text, got, p.unknown, c.want)
		}
	}
}

// Arguments keep their borders whatever is in them, and placeholders are quoted
// when they get their values.
func TestArgumentsKeepTheirBorders(t *testing.T) {
	f := declare.NewWorkspace("/w", nil).File(".quill/jobs.json", []byte(`{"tasks": [
		{"name": "plain", "command": "tool", "args": ["a b", "$x", "--out=${file}"]},
		{"name": "piped", "command": "cat x | tool", "args": ["a b", "--out=${file}"]},
		{"name": "text", "command": "tool", "args": "-v ${file}"},
		{"name": "list", "command": ["tool", "a b", "{x: 1}"]},
		{"name": "bash", "command": "a && b", "shell": "/bin/bash"},
		{"name": "steps", "commands": ["make one", ["tool", "a b"]]}
	]}`))
	want := map[string]string{
		"plain": "tool|a b|{ask.x}|--out={file}",
		"piped": "cat x | tool 'a b' --out={file}",
		"text":  "tool -v {file}",
		"list":  "tool|a b|{{x: 1}}",
		"bash":  "/bin/bash|-c|a && b",
		"steps": "make one && tool 'a b'",
	}
	found := Read(f)
	if len(found.Tasks) != len(want) {
		t.Fatalf("%d tasks", len(found.Tasks))
	}
	for _, x := range found.Tasks {
		got := x.Command.Shell
		if len(x.Command.Argv) > 0 {
			got = strings.Join(x.Command.Argv, "|")
		}
		if got != want[x.Name] {
			t.Errorf("%s: got %s, want %s", x.Name, got, want[x.Name])
		}
	}
	values := task.Values{File: "/w/my file.c", Root: "/w", Env: func(string) (string, bool) { return "", false }}
	for _, x := range found.Tasks {
		if x.Name == "piped" {
			c, err := values.ExpandCommand(x.Command)
			if err != nil || c.Shell != "cat x | tool 'a b' --out='/w/my file.c'" {
				t.Errorf("%v, %s", err, c.Shell)
			}
		}
	}
}

// What a shape says is told apart from what only looks like it.
func TestShapesOfEntries(t *testing.T) {
	for _, c := range []struct{ name, path, text, want string }{
		{"overrides for this system", ".q/jobs.json", `{"tasks":[{"name":"a","command":"x","windows":{"command":"y"},"linux":{"command":"z","cwd":"k"}}]}`, "a: z in k"},
		{"a command for each system", ".q/jobs.json", `{"tasks":[{"name":"a","linux":"z","win":"y","cwd":"k"}]}`, "a: z in k"},
		{"names that stand twice", ".q/jobs.json", `{"tasks":[{"name":"a","command":"x"},{"name":"a","command":"y"}]}`, "a 2: y in ., a: x in ."},
		{"a better name than an id", ".q/jobs.json", `{"tasks":[{"id":"7f","title":"Fire","command":"x"}]}`, "Fire: x in ."},
		{"a list in a part of the workspace", "shop/.q/jobs.yaml", "jobs:\n- name: a\n  run: x\n  dir: src\n", "a: x in shop/src"},
		{"at home and absolute", ".q/jobs.yaml", "jobs:\n- {name: a, run: x, dir: /srv}\n- {name: b, run: y, dir: '${projectFolder}/k'}\n", "a: x in /srv, b: y in k"},
		{"verbs with tables", ".q/project.json", `{"targets":{"kiln":{"build":{"command":"make","cwd":"k"},"run":{"command":"./kiln"}}}}`, "kiln build: make in k, kiln run: ./kiln in ."},
		{"a command of the editor itself", ".q/commands.json", `{"commands":[{"title":"Hello","command":"view.open"}]}`, ""},
		{"a script is a command", ".q/commands.json", `{"commands":[{"title":"Hello","command":"hello.sh"}]}`, "Hello: hello.sh in ."},
		{"no evidence at all", ".q/data.json", `{"people":[{"name":"Ana","run":"marathon"}]}`, ""},
		{"several lists in one file", ".q/all.toml", "[[task]]\nname = \"a\"\nrun = \"x\"\n[[job]]\ntitle = \"b\"\ncmd = \"y\"\n", "a: x in ., b: y in ."},
		{"items with one key each", ".q/tasks.yaml", "tasks:\n- fire:\n    do: make\n    in: kiln\n- cool: {do: make cool}\n", "cool: make cool in ., fire: make in kiln"},
		{"tables of verbs", ".q/tasks.toml", "[build]\ncmd = \"make\"\n[run]\ncmd = \"./x\"\ncwd = \"kiln\"\n", "build: make in ., run: ./x in kiln"},
		{"steps that are command lines", ".q/jobs.json", `{"jobs":{"lint":{"steps":["eslint .","tsc"],"folder":"shop"}}}`, "lint: eslint . && tsc in shop"},
		{"steps that are tables", ".q/jobs.json", `{"jobs":{"lint":{"steps":[{"name":"x","run":"eslint ."}]}}}`, ""},
		{"broken at the end", ".q/jobs.json", `{"tasks":[{"name":"a","command":"x"}`, "a: x in ."},
	} {
		var got []string
		found := Read(declare.NewWorkspace("/w", nil).File(c.path, []byte(c.text)))
		for _, x := range found.Tasks {
			got = append(got, x.Name+": "+x.Command.String()+" in "+x.Dir)
		}
		slices.Sort(got)
		if strings.Join(got, ", ") != c.want {
			t.Errorf("%s: got %q, want %q", c.name, strings.Join(got, ", "), c.want)
		}
		if c.name == "broken at the end" && len(found.Faults) != 1 {
			t.Errorf("the mistake is told: %v", found.Faults)
		}
	}
}
