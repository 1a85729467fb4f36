package tallyfile

import (
	"slices"
	"strings"
	"testing"
)

func TestEditsKeepEverythingElse(t *testing.T) {
	for _, c := range []struct{ name, before, after string }{
		{"an empty file", "", "[workspace]\nignore = [\"a\"]\n"},
		{"no table", "# mine\n[set]\nx = \"1\"", "# mine\n[set]\nx = \"1\"\n\n[workspace]\nignore = [\"a\"]\n"},
		{"no key", "[workspace] # all\nname = \"n\" # that\n\n# about tasks\n[task.x]\nrun = \"y\"\n", "[workspace] # all\nname = \"n\" # that\nignore = [\"a\"]\n\n# about tasks\n[task.x]\nrun = \"y\"\n"},
		{"one line", "[workspace]\nignore = [ 'b', ] # why\nslots = 2\n", "[workspace]\nignore = [ 'b', \"a\" ] # why\nslots = 2\n"},
		{"an empty list", "[workspace]\nignore = []\n", "[workspace]\nignore = [\"a\"]\n"},
		{"several lines", "[workspace]\nignore = [\n    \"b\", # one\n    \"c\" # two\n]\n", "[workspace]\nignore = [\n    \"b\", # one\n    \"c\", # two\n    \"a\",\n]\n"},
		{"there already", "[workspace]\nignore = ['a']\n", "[workspace]\nignore = ['a']\n"},
		{"a bracket in a string and a comment", "[workspace]\nignore = [ # ]\n  \"]#\",\n]\n", "[workspace]\nignore = [ # ]\n  \"]#\",\n  \"a\",\n]\n"},
		{"carriage returns", "[workspace]\r\nname = \"x\"\r\n", "[workspace]\r\nname = \"x\"\r\nignore = [\"a\"]\r\n"},
		{"a value over several lines before", "[workspace]\nrules_off = [\n  \"x\",\n]\n[set]\n", "[workspace]\nrules_off = [\n  \"x\",\n]\nignore = [\"a\"]\n[set]\n"},
	} {
		got, err := Append([]byte(c.before), "workspace", "ignore", "a")
		if err != nil || string(got) != c.after {
			t.Errorf("%s: %v\ngot  %q\nwant %q", c.name, err, got, c.after)
		}
	}
	got, err := Put([]byte("[workspace]\nusual = 'old#x' # the one\n"), "workspace", "usual", `kiln/"q"#y`)
	if want := "[workspace]\nusual = 'kiln/\"q\"#y' # the one\n"; err != nil || string(got) != want {
		t.Errorf("%v, %q", err, got)
	}
	got, err = Remove([]byte("[workspace]\nignore = [\"b\", 'a', # x\n \"c\"]\n"), "workspace", "ignore", "a")
	if want := "[workspace]\nignore = [\"b\", # x\n \"c\"]\n"; err != nil || string(got) != want {
		t.Errorf("%v, %q", err, got)
	}
}

func TestEditsOfBrokenFilesAreRefused(t *testing.T) {
	for _, text := range []string{"[workspace]\nignore = 3\n", "[workspace]\nignore = [\"b\"\n", "workspace = 1\n"} {
		got, err := Append([]byte(text), "workspace", "ignore", "a")
		if err == nil {
			t.Errorf("%q became %q", text, got)
		}
	}
}

// Whatever stands in the file: an edit that succeeds adds its item, and the
// other values stay.
func FuzzAppend(f *testing.F) {
	f.Add("[workspace]\nignore = [\n  \"b\", # one\n]\n", "a")
	f.Add("[workspace]\nignore = ['''x''', \"\"\"y\"\"\"]\n[set]\nq = \"1\"", "\"\\\x00é")
	f.Fuzz(func(t *testing.T, text, item string) {
		if strings.ToValidUTF8(item, "") != item {
			return
		}
		got, err := Append([]byte(text), "workspace", "ignore", item)
		if err != nil {
			return
		}
		if list := Parse("tidytally.toml", got).Workspace.Ignore; !slices.Contains(list, item) && !strings.Contains(string(got), "\x00") {
			// The list may hold what is no string: then it does not count.
			for _, fault := range Parse("tidytally.toml", got).Faults {
				if strings.Contains(fault.Message, "ignore") {
					return
				}
			}
			t.Errorf("%q is not in %q of %q", item, list, got)
		}
	})
}
