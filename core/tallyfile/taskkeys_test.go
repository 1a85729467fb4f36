package tallyfile

import (
	"reflect"
	"strings"
	"testing"

	"tidytally/core/task"
)

// Each key of a task goes around: what a tally file says is shown, and what one would type for it means the same again.
func TestEachKeyOfATaskGoesAround(t *testing.T) {
	given := map[string]string{
		"run": `"make -j2 | cat"`, "about": `"Link it"`, "in": `"sub"`, "env": `{ B = "x y", A = "1" }`, "env_file": `"sub/.env"`, "kind": `"clean"`, "for": `["*.c", "a b.h"]`,
		"before": `["#other"]`, "with": `["#other"]`, "after": `["#other"]`, "long_running": "true", "ready": `'on (?P<url>\S+)'`, "rerun_on": `["src/**"]`, "reads": `["*.in"]`, "makes": `["*.out"]`,
		"skip": `"fresh"`, "learn": "true", "sieves": `["gnu"]`, "show": `"always"`, "key": `"f7"`, "via": `"box"`, "at": `"lab"`, "timeout": `"5m"`, "login": "true", "direct": "true", "debug": `["prog", "--port", "7"]`,
		"packages_before": `"build"`, "restart": `"on-failure"`, "stop": `{ signal = "TERM", grace = "2s" }`, "args": `[{ name = "BOARD", about = "which", choices = ["mk1", "mk 2"], default = "mk1" }]`,
		"presets": `{ "first board" = "BOARD=mk1" }`, "secrets": `["PIN"]`, "pin": "true",
	}
	read := func(lines string) *task.Task {
		t.Helper()
		const rest = "[task.other]\nrun = \"true\"\n[via.box]\nrun = \"box {command}\"\n[place.lab]\nrun = \"ssh lab\"\n"
		f := Parse("tidytally.toml", []byte("[task.x]\n"+lines+rest))
		if len(f.Faults) > 0 || len(f.Tasks) != 2 {
			t.Fatalf("%s: %v", lines, f.Faults)
		}
		x := f.Tasks[0]
		for name, o := range x.Origins { // only that there is one
			o.Line, o.Column = 0, 0
			x.Origins[name] = o
		}
		return x
	}
	for _, k := range taskKeys {
		literal, ok := given[k.name]
		if !ok {
			t.Errorf("%s is not tried", k.name)
			continue
		}
		lead := "run = \"true\"\n"
		if k.name == "run" {
			lead = ""
		}
		x := read(lead + k.name + " = " + literal + "\n")
		shown := ""
		EachShown(x, func(key, name, text string) {
			if key == k.name {
				shown += name + " " + text + "\n"
			}
		})
		if !strings.HasPrefix(shown, k.origin()+" ") {
			t.Errorf("%s is shown as %q", k.name, shown)
		}
		typed, ok := TypedFields(x, ".")[k.name]
		if !ok {
			t.Errorf("%s is in no form", k.name)
			continue
		}
		again, err := Literal(k.name, typed)
		if err != nil {
			t.Errorf("%s, typed as %s: %v", k.name, typed, err)
			continue
		}
		if y := read(lead + k.name + " = " + again + "\n"); !reflect.DeepEqual(x, y) {
			t.Errorf("%s, typed as %s, becomes %s:\n%+v\n%+v", k.name, typed, again, x, y)
		}
	}
}
