package tallyfile

import (
	"bytes"
	"encoding/json"
	"flag"
	"os"
	"reflect"
	"strings"
	"testing"

	"tidytally/core/task"
)

var update = flag.Bool("update", false, "write the tables of docs/tally-file.md anew")

const everything = `
[workspace]
name  = "emberclay"
usual = "kiln/Makefile#controller"
ignore = ["**/fixtures/**"]
rules_off = ["caches", "shopfront/.gitignore"]
slots = 2
bell = "30s"
direct = false
learn = ["build"]
skip = ["test"]

[set]
python = "glazebook/.venv/bin/python"

[task.controller]
run      = "make -j2 controller"
about    = "Link the controller image"
in       = "kiln"
env      = { TZ = "UTC" }
env_file = ".env"
kind     = "build"
for      = ["*.c", "*.h"]
before   = ["#fetch-tables"]
with     = ["shopfront/package.json#watch"]
after    = ["#sweep"]
long_running = false
ready    = 'serving on (?P<url>\S+)'
skip = "fresh"
rerun_on = ["src/**/*.c"]
reads    = ["src/**/*.c", "Makefile"]
makes    = ["build/controller.elf"]
sieves   = ["gnu"]
show     = "on-problem"
key      = "f7"
via      = "pinned-node"
at = "kiln-lab"
timeout  = "5m"
login    = false
learn    = false
restart  = "on-failure"
direct   = true
debug    = ["build/controller", "--port", "7"]
packages_before = "build"
stop     = { signal = "INT", grace = "3s" }
args     = [{ name = "BOARD", about = "which board", choices = ["mk1", "mk2"], default = "mk2" }]
presets  = { "first board" = "BOARD=mk1" }
secrets  = ["KILN_PIN", "--pin"]
pin      = true

[via.pinned-node]
run = ["{root}/tools/launch", "{command}"]
paths = { "/work" = "kiln" }
kinds = ["bench"]
folders = ["sealed"]

[place.kiln-lab]
run = ["ssh", "kiln-lab"]
folder = "/srv/emberclay"
takes = "line"
carry = true
env = ["LANG"]
slots = 4
away = "wait"
there = ["ping", "-c1", "kiln-lab"]
kinds = ["test"]
about = "the machine beside the kiln"

[adjust."shopfront/package.json#build"]
before = ["#fetch-tables"]
reads  = ["src/**"]

[sieve.kilnsim]
about = "the kiln simulator's complaints"
begin = '^firing$'
end = '^fired$'
severities = { odd = "warning" }
[[sieve.kilnsim.lines]]
match = '^!! (?P<severity>\w+) in (?P<file>\S+) at (?P<line>\d+)$'
[[sieve.kilnsim.lines]]
match = '^   (?P<message>.+)$'
repeat = true

[teach.inkpot]
files  = [".inkpot/*.json"]
format = "jsonc"
each   = "$.jobs[*]"
name   = "$.title"
run    = "$.do"
in     = "$.where"
before = "$.first[*]"
`

func TestEverythingIsRead(t *testing.T) {
	f := Parse("x/tidytally.toml", []byte(everything))
	if len(f.Faults) > 0 {
		t.Fatal(f.Faults)
	}
	if f.Workspace.Name != "emberclay" || f.Workspace.Slots != 2 || f.Workspace.Ignore[0] != "**/fixtures/**" || f.Set["python"] == "" {
		t.Errorf("workspace %+v, set %v", f.Workspace, f.Set)
	}
	want := &task.Task{
		Name: "controller", Source: "tally", File: "x/tidytally.toml", Line: 16, Manner: task.Declared,
		Command: task.Command{Shell: "make -j2 controller"}, Dir: "x/kiln", About: "Link the controller image", Kind: task.Build,
		Args: []task.Arg{{Name: "BOARD", About: "which board", Choices: []string{"mk1", "mk2"}, Default: "mk2"}},
		Env:  map[string]string{"TZ": "UTC"}, EnvFile: "x/.env", For: []string{"*.c", "*.h"},
		Prerequisites: []string{"x/tidytally.toml#fetch-tables"}, Before: []string{"x/tidytally.toml#fetch-tables"},
		With: []string{"shopfront/package.json#watch"}, After: []string{"x/tidytally.toml#sweep"},
		Ready: `serving on (?P<url>\S+)`, RerunOn: []string{"src/**/*.c"}, Reads: []string{"src/**/*.c", "Makefile"},
		Makes: []string{"build/controller.elf"}, Sieves: []string{"gnu"}, Show: "on-problem", Key: "f7", Via: "pinned-node", At: "kiln-lab",
		Timeout: "5m", Restart: task.OnFailure, Stop: task.Stop{Signal: "INT", Grace: "3s"}, Pin: true,
		Secrets: []string{"KILN_PIN", "--pin"}, Presets: map[string]string{"first board": "BOARD=mk1"},
		Direct: true, Debug: task.Command{Argv: []string{"build/controller", "--port", "7"}}, PackagesBefore: "build", SkipFresh: true,
	}
	got := f.Tasks[0]
	if o := got.Origin("timeout"); o.Line != 38 || o.Column != 1 {
		t.Errorf("timeout comes from %v", o)
	}
	got.Origins = nil
	if !reflect.DeepEqual(got, want) {
		t.Errorf("got  %+v\nwant %+v", got, want)
	}
	if len(f.Vias) != 1 || len(f.Adjusts) != 1 || len(f.Sieves) != 1 || len(f.Sieves[0].Lines) != 2 || !f.Sieves[0].Lines[1].Repeat {
		t.Errorf("via %v, adjust %v, sieve %v", f.Vias, f.Adjusts, f.Sieves)
	}
}

// Every key of the schema stands in the example above: neither can grow alone.
func TestTheSchemaNamesWhatIsRead(t *testing.T) {
	var b bytes.Buffer
	if err := WriteSchema(&b); err != nil {
		t.Fatal(err)
	}
	var s struct {
		Properties map[string]struct {
			Properties           map[string]struct{ Type, Description string }
			AdditionalProperties json.RawMessage
		}
	}
	if err := json.Unmarshal(b.Bytes(), &s); err != nil {
		t.Fatal(err)
	}
	for name, table := range s.Properties {
		if !strings.Contains(everything, "["+name) {
			t.Errorf("the example has no table %s", name)
		}
		fields := table.Properties
		if fields == nil {
			var named struct {
				Properties map[string]struct{ Type, Description string }
			}
			if err := json.Unmarshal(table.AdditionalProperties, &named); err == nil {
				fields = named.Properties
			}
		}
		for key, f := range fields {
			if !strings.Contains(everything, "\n"+key+" ") && !strings.Contains(everything, "."+key+"]]") {
				t.Errorf("the example has no key %s of %s", key, name)
			}
			if f.Description == "" {
				t.Errorf("%s.%s is not described", name, key)
			}
		}
	}
	if n := len(s.Properties); n != 8 {
		t.Errorf("%d tables", n)
	}
}

func TestTheReferenceIsCurrent(t *testing.T) {
	const file, mark = "../../docs/tally-file.md", "<!-- made by: go test ./core/tallyfile -update -->\n"
	data, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	head, _, ok := strings.Cut(string(data), mark)
	if !ok {
		t.Fatalf("%s has lost its mark", file)
	}
	var b bytes.Buffer
	if err := WriteReference(&b); err != nil {
		t.Fatal(err)
	}
	want := head + mark + "\n" + strings.TrimRight(b.String(), "\n") + "\n"
	if *update {
		if err := os.WriteFile(file, []byte(want), 0o644); err != nil {
			t.Fatal(err)
		}
	} else if want != string(data) {
		t.Errorf("%s does not match the schema; %s", file, strings.Trim(mark, "<!->\n "))
	}
}

func FuzzParse(f *testing.F) {
	f.Add([]byte(everything))
	f.Add([]byte("[task.a\nrun=1\n[task.a]\nrun=\"x\"\n[[task]]\n[task.a.env]\nx.y=1"))
	f.Add([]byte("\ufeff[set]\na.b = \"x\"\n[workspace]\nworkspace = 3\n[sieve]\nx = 1"))
	f.Fuzz(func(t *testing.T, data []byte) {
		got := Parse("tidytally.toml", data)
		lines := bytes.Count(data, []byte("\n")) + 1
		for _, fault := range got.Faults {
			if fault.Line < 1 || fault.Line > lines || fault.Column < 1 {
				t.Errorf("a fault outside of the file: %v", fault)
			}
		}
		for _, k := range got.Tasks {
			if k.Line < 1 || k.Line > lines || k.Name == "" {
				t.Errorf("impossible: %+v", k)
			}
		}
	})
}

// The names that tasks of tally files run are checked; those of other declarations
// only where a tally file adjusts them, because their own tools know better.
func TestNamesAreCheckedWhereATallyFileGivesThem(t *testing.T) {
	var m Merged
	f := Parse("tidytally.toml", []byte("[task.a]\nrun = \"x\"\nbefore = [\"#gone\"]\nafter = [\"#b\"]\n[task.b]\nrun = \"y\"\nvia = \"nowhere\"\n"))
	m.Add(f)
	declared := &task.Task{Name: "foreign", Source: "make", File: "Makefile", Line: 1, Before: []string{"#missing"}}
	var messages []string
	for _, fault := range m.Adjust(append(f.Tasks, declared)) {
		messages = append(messages, fault.String())
	}
	got := strings.Join(messages, "\n")
	if !strings.Contains(got, "task a: no task") || !strings.Contains(got, "there is no [via.nowhere]") || strings.Contains(got, "missing") || len(messages) != 2 {
		t.Errorf("faults:\n%s", got)
	}
}
